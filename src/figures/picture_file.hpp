// SPDX-License-Identifier: Apache-2.0
// Pictures are made by other programs (gnuplot, graphviz) and appear under their name only when they are whole.
#pragma once

#include <functional>
#include <string>
#include <vector>

namespace netloop {

/// The form of a picture by its name: ".svg", ".png" ...; of - (standard output) .svg.
std::string picture_form(const std::string& out);

/// Runs `program` (looked for along PATH, without a shell), which writes its picture under a name of its own (`arguments` and `input` are told it: absolute, so
/// that no program takes it for anything but a name), and gives the picture its name. `inputs` are files that are never written over. Throws RecordingError
/// with what the program said if it is not installed, fails or writes nothing; then nothing is left behind.
void draw_by(const std::string& program, const std::function<std::vector<std::string>(const std::string& unfinished)>& arguments,
             const std::function<std::string(const std::string& unfinished)>& input, const std::string& out, const std::vector<std::string>& inputs);

}  // namespace netloop
