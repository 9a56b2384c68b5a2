// SPDX-License-Identifier: Apache-2.0
// Other programs (gnuplot, graphviz, a C compiler), run without a shell.
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
    const std::filesystem::path& path() const { return path_; }

private:
    std::filesystem::path path_;
};

/// What a program reads and writes: files; nothing where they are empty.
struct ProgramFiles {
    std::string input{}, output{}, said{};  ///< standard input, output and error
    std::string folder{};                   ///< that it runs in; empty: ours
};

/// Runs a program, which is looked for along PATH, and waits for its end. Its exit code; 127 if there is no such program, 126 if a signal ended it.
int run_program(const std::string& program, const std::vector<std::string>& arguments, const ProgramFiles& files);

/// The first line of a file that tells of an error, else the first that says anything; empty if there is none.
std::string first_words(const std::string& file);

}  // namespace netloop
