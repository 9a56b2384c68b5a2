// SPDX-License-Identifier: Apache-2.0
// Signals over frequency.
#pragma once

#include <vector>

#include "figures/curves.hpp"

namespace netloop {

/// Amplitudes over frequency: the signal at even distances, its mean taken away, through a Hann window (Harris 1978), whose gain is taken out again: a sine of
/// amplitude 3 gives a peak of 3. x in s; the result in Hz.
Stroke amplitude_spectrum(const std::vector<double>& x, const std::vector<double>& y);

}  // namespace netloop
