// SPDX-License-Identifier: Apache-2.0
// Pictures of linear models and modes, by gnuplot.
#pragma once

#include <string>
#include <vector>

#include "netloop/cost.hpp"
#include "netloop/linear_model.hpp"
#include "netloop/modes.hpp"

namespace netloop {

struct AnalysisPicture {
    std::string title{};
    std::string out{};                  ///< .png, .svg or .pdf, or - for standard output (SVG)
    std::vector<std::string> inputs{};  ///< files that are never written over
    int width = 1280, height = 800;
};

/// Of one input and output: amplitude and phase over frequency with margins where it is an opened loop, poles and zeros, the locus in the complex plane, the
/// step answer, over that of the model itself where `check` holds it. Throws RecordingError.
void draw_linear(const LinearModel& model, std::size_t input, std::size_t output, const LinearCheck* check, const AnalysisPicture& picture);

/// Amplitude and phase of a large one, at frequencies in Hz. Throws RecordingError.
void draw_answer(const DescriptorModel& model, std::size_t input, std::size_t output, const std::vector<double>& hertz, const AnalysisPicture& picture);

/// Frequencies of the fastest modes over time, on a logarithmic axis, and for one point bars of the parts of each. Throws RecordingError.
void draw_modes(const std::vector<Modes>& over_time, std::size_t shown, const AnalysisPicture& picture);

/// The length of steps over time, on a logarithmic axis, a curve for each of the few things that limited most of them; below, the steps made so far. Throws
/// RecordingError.
void draw_cost(const Cost& cost, const AnalysisPicture& picture);

}  // namespace netloop
