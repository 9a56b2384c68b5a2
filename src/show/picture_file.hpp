// Pictures are made by other programs (gnuplot, graphviz) and appear under their name only when they are whole.
#pragma once

#include <filesystem>
#include <string>
#include <vector>

namespace netloop {

/// A folder of its own among the temporary ones, removed with all that is in it. Throws RecordingError if none can be made.
class OwnFolder {
public:
    OwnFolder();
    ~OwnFolder();
    OwnFolder(const OwnFolder&) = delete;
    OwnFolder& operator=(const OwnFolder&) = delete;
    std::filesystem::path operator/(const std::string& name) const { return path_ / name; }

private:
    std::filesystem::path path_;
};

/// The name beside `out` for the unfinished picture; the program that draws must write there. Throws RecordingError if nothing can be written there.
std::string unfinished_picture(const std::string& out);
/// Runs `program` (looked for along PATH, without a shell) with `text` as its input and gives the picture its name. Throws RecordingError with what the program
/// said if it is not installed, fails or writes nothing; then nothing is left behind.
void draw_by(const std::string& program, const std::vector<std::string>& arguments, const std::string& text, const std::string& out);

}  // namespace netloop
