// SPDX-License-Identifier: Apache-2.0
#include "files/input_file.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>

namespace netloop {
namespace {

constexpr std::size_t kLooked = 4096;  // bytes of a text that are searched for a zero

class Descriptor {
public:
    explicit Descriptor(int fd) : fd_(fd) {}
    ~Descriptor()
    {
        if (fd_ >= 0) ::close(fd_);
    }
    Descriptor(const Descriptor&) = delete;
    Descriptor& operator=(const Descriptor&) = delete;
    operator int() const { return fd_; }

private:
    int fd_;
};

std::string reason_of(int error)
{
    if (error == ENOENT || error == ENOTDIR) return "there is no such file";
    if (error == EACCES || error == EPERM) return "no permission to read it";
    return std::strerror(error);
}

ssize_t read_some(int fd, char* to, std::size_t most)
{
    for (;;) {
        ssize_t n = ::read(fd, to, most);
        if (n >= 0 || errno != EINTR) return n;
    }
}

}  // namespace

std::string read_text_file(const std::string& path, std::size_t most)
{
    Descriptor file(::open(path.c_str(), O_RDONLY | O_CLOEXEC));
    struct stat about {};
    if (file < 0 || ::fstat(file, &about) != 0) throw FileProblem(reason_of(errno));
    if (S_ISDIR(about.st_mode)) throw FileProblem("it is a folder");
    bool regular = S_ISREG(about.st_mode);
    std::size_t limit = regular ? most : std::min(most, kMostFromStream);
    auto too_large = [&] { return FileProblem(fmt::format("it holds more than {} MiB", limit / kMiB)); };
    if (regular && static_cast<std::size_t>(about.st_size) > limit) throw too_large();
    std::string text;
    std::size_t filled = 0;
    text.resize(regular ? static_cast<std::size_t>(about.st_size) + 1 : 65536);
    for (;;) {
        if (filled == text.size()) text.resize(2 * text.size());
        ssize_t n = read_some(file, text.data() + filled, text.size() - filled);
        if (n < 0) throw FileProblem(fmt::format("reading failed: {}", std::strerror(errno)));
        if (n == 0) break;
        if (filled < kLooked && std::memchr(text.data() + filled, 0, std::min(static_cast<std::size_t>(n), kLooked - filled)) != nullptr)
            throw FileProblem("it holds zero bytes: it is no UTF-8 text");
        filled += static_cast<std::size_t>(n);
        if (filled > limit) throw too_large();
    }
    text.resize(filled);
    return text;
}

std::string first_bytes(const std::string& path, std::size_t most)
{
    struct stat about {};
    if (::stat(path.c_str(), &about) != 0 || !S_ISREG(about.st_mode)) return {};
    Descriptor file(::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK));
    if (file < 0) return {};
    std::string bytes(most, '\0');
    std::size_t filled = 0;
    while (filled < most) {
        ssize_t n = read_some(file, bytes.data() + filled, most - filled);
        if (n <= 0) break;
        filled += static_cast<std::size_t>(n);
    }
    bytes.resize(filled);
    return bytes;
}

}  // namespace netloop
