// SPDX-License-Identifier: Apache-2.0
// Files that come from outside, read as a whole and never without bounds.
#pragma once

#include <cstddef>
#include <stdexcept>
#include <string>

namespace netloop {

/// A file that was not read: what() tells why, without its name ("there is no such file").
class FileProblem : public std::runtime_error {
public:
    using std::runtime_error::runtime_error;
};

constexpr std::size_t kMiB = std::size_t{1} << 20;
/// What is no regular file (a pipe, a device) tells no size before it is read: of such a one no more than this is taken.
constexpr std::size_t kMostFromStream = 64 * kMiB;

/// All bytes of a text file. Throws FileProblem if there is none, it is a folder, may not be read, fails while it is read, holds more than `most` bytes, or
/// holds a zero byte in its first 4 KiB (then it is no text). Cost: one pass. Any thread.
std::string read_text_file(const std::string& path, std::size_t most);

/// The first `most` bytes of a file; fewer, or none, if there are not so many or it cannot be read. Never waits: what is no regular file has none.
std::string first_bytes(const std::string& path, std::size_t most);

}  // namespace netloop
