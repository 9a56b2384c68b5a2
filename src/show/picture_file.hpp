// Pictures are made by other programs (gnuplot, graphviz) and appear under their name only when they are whole.
#pragma once

#include <string>

namespace netloop {

/// The name beside `out` for the unfinished picture; the program that draws must write there.
std::string unfinished_picture(const std::string& out);
/// Runs `command` with `text` as its input and gives the picture its name. Throws RecordingError, with `program` in it, if it does not run, fails or writes
/// nothing; then nothing is left behind.
void draw_by(const std::string& program, const std::string& command, const std::string& text, const std::string& out);

}  // namespace netloop
