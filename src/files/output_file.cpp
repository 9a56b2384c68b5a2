// SPDX-License-Identifier: Apache-2.0
#include "files/output_file.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <cstring>
#include <filesystem>

#include "files/input_file.hpp"

namespace netloop {
namespace fs = std::filesystem;
namespace {

constexpr int kMostNames = 1000;  // of unfinished files beside one output
constexpr std::size_t kCopied = std::size_t{1} << 16;

std::string reason(int error)
{
    if (error == ENOSPC || error == EDQUOT) return "the disk is full";
    if (error == EACCES || error == EPERM) return "no permission to write there";
    if (error == EROFS) return "the disk can only be read";
    if (error == EFBIG) return "the file would be larger than is allowed";
    if (error == ENAMETOOLONG) return "the name is too long";
    if (error == EPIPE) return "its reader has gone";
    return std::strerror(error);
}

// Null, or the errno of what failed.
int write_all(int fd, const char* data, std::size_t size)
{
    while (size > 0) {
        ssize_t n = ::write(fd, data, size);
        if (n < 0 && errno == EINTR) continue;
        if (n < 0) return errno;
        data += n;
        size -= static_cast<std::size_t>(n);
    }
    return 0;
}

// A lock of an open file, not of a process: it goes with the writer, however that ends.
bool lock(int fd)
{
    struct flock all {};
    all.l_type = F_WRLCK;
    all.l_whence = SEEK_SET;
    return ::fcntl(fd, F_OFD_SETLK, &all) == 0;
}

bool somebody_writes(const std::string& path)
{
    int fd = ::open(path.c_str(), O_RDONLY | O_NOFOLLOW | O_CLOEXEC | O_NONBLOCK);
    if (fd < 0) return false;
    struct flock all {};
    all.l_type = F_WRLCK;
    all.l_whence = SEEK_SET;
    bool held = ::fcntl(fd, F_OFD_GETLK, &all) == 0 && all.l_type != F_UNLCK;
    ::close(fd);
    return held;
}

bool same_file(const struct stat& a, const struct stat& b)
{
    return a.st_dev == b.st_dev && a.st_ino == b.st_ino;
}

// Waits for the disk; a file system that knows no such thing is no failure.
bool on_disk(int fd)
{
    return ::fsync(fd) == 0 || errno == EINVAL || errno == ENOTSUP || errno == EROFS;
}

std::string made_temporary(int& fd)
{
    std::string name = temporary_name();
    fd = ::mkostemp(name.data(), O_CLOEXEC);
    return fd < 0 ? "" : name;
}

}  // namespace

std::string temporary_name()
{
    std::error_code error;
    fs::path among = fs::temp_directory_path(error);
    if (error) among = "/tmp";  // TMPDIR names no folder
    return (among / "netloop_XXXXXX").string();
}

OutputFile::OutputFile(const std::string& path, const OutputRules& rules) : path_(path)
{
    if (path == "-") {
        open_stream(::dup(STDOUT_FILENO), rules.by_name);
        return;
    }
    if (path.empty() || fs::path(path).filename().empty()) throw RecordingError("the name of the file to write is empty");
    if (!rules.model_text && fs::path(path).extension() == ".loop")
        refuse(fmt::format("a name that ends in .loop is that of a model, and this is {}", rules.what));
    struct stat about {};
    there_ = ::stat(path.c_str(), &about) == 0;
    if (there_ && S_ISDIR(about.st_mode)) refuse("it is a folder");
    if (there_ && (S_ISCHR(about.st_mode) || S_ISFIFO(about.st_mode))) {
        open_stream(::open(path.c_str(), O_WRONLY | O_CLOEXEC | O_NOCTTY), rules.by_name);
        return;
    }
    if (there_ && !S_ISREG(about.st_mode)) refuse("it is no regular file");
    std::error_code error;
    if (!there_ && fs::is_symlink(path, error)) {  // to what is not there yet
        fs::path to = fs::read_symlink(path, error);
        target_ = to.is_absolute() ? to.string() : (fs::absolute(path, error).parent_path() / to).string();
        if (fs::is_symlink(target_, error)) refuse("it is a link to a link that leads nowhere");
    }
    fs::path real = there_ ? fs::canonical(path, error) : fs::weakly_canonical(fs::absolute(path, error), error);
    if (target_.empty()) target_ = error ? fs::absolute(path, error).string() : real.string();
    fs::path folder = fs::path(target_).parent_path();
    if (!fs::is_directory(folder, error)) refuse(fmt::format("there is no folder '{}'", there_ ? folder.string() : fs::path(path).parent_path().string()));
    before_ = about;
    if (there_) {
        for (const std::string& input : rules.inputs)
            if (struct stat read{}; ::stat(input.c_str(), &read) == 0 && same_file(read, about))
                refuse(fmt::format("it is read here ('{}'); choose another name", input));
        if ((about.st_mode & 0222) == 0 || ::access(path.c_str(), W_OK) != 0) refuse("it is protected against writing");
        if (about.st_size > 0 && rules.replaces != nullptr && !rules.replaces(path))
            refuse(fmt::format("what stands there is not {}; remove it first, or choose another name", rules.what));
    }
    open_beside(rules);
}

void OutputFile::open_stream(int descriptor, bool by_name)
{
    if (descriptor < 0) refuse(reason(errno));
    stream_ = descriptor;
    if (!by_name) {
        descriptor_ = stream_;
        return;
    }
    unfinished_ = made_temporary(descriptor_);
    if (descriptor_ >= 0) return;
    int error = errno;
    ::close(stream_);
    refuse(fmt::format("no file can be made among the temporary ones: {}", reason(error)));
}

void OutputFile::open_beside(const OutputRules& rules)
{
    for (int k = 1; k <= kMostNames; ++k) {
        std::string name = target_ + ".unfinished" + (k > 1 ? fmt::format("-{}", k) : "");
        descriptor_ = ::open(name.c_str(), O_RDWR | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, 0666);
        if (descriptor_ >= 0) {
            unfinished_ = std::move(name);
            lock(descriptor_);  // where locks are not known, leftovers are told from living ones by nobody
            return;
        }
        if (errno != EEXIST) refuse(reason(errno));
        struct stat about {};
        if (::lstat(name.c_str(), &about) == 0 && S_ISREG(about.st_mode) && !somebody_writes(name)) leftovers_.push_back(name);
    }
    refuse(fmt::format("{} unfinished files of this name stand beside it; remove those of them that nobody needs (they hold {})", kMostNames, rules.what));
}

OutputFile::~OutputFile()
{
    close_descriptor();
    if (stream_ >= 0) ::close(stream_);
    if (!done_ && !unfinished_.empty()) ::unlink(unfinished_.c_str());
}

void OutputFile::close_descriptor()
{
    if (descriptor_ >= 0 && descriptor_ != stream_) ::close(descriptor_);
    descriptor_ = -1;
}

void OutputFile::refuse(const std::string& why) const
{
    throw RecordingError(fmt::format("'{}' cannot be written: {}", path_, why));
}

bool OutputFile::written_meanwhile() const
{
    struct stat now {};
    if (written_through() || ::stat(target_.c_str(), &now) != 0) return false;
    return !there_ || !same_file(now, before_) || now.st_mtim.tv_sec != before_.st_mtim.tv_sec || now.st_mtim.tv_nsec != before_.st_mtim.tv_nsec;
}

bool OutputFile::replaces_something() const
{
    struct stat now {};
    return !written_through() && ::stat(target_.c_str(), &now) == 0 && now.st_size > 0;
}

void OutputFile::write(const char* data, std::size_t size)
{
    if (int error = write_all(descriptor_, data, size); error != 0) refuse(reason(error));
}

void OutputFile::publish()
{
    if (written_through()) {
        if (descriptor_ != stream_) {  // made by name: now as a whole
            int from = ::open(unfinished_.c_str(), O_RDONLY | O_CLOEXEC);
            if (from < 0) refuse(reason(errno));
            std::array<char, kCopied> part{};
            int error = 0;
            for (ssize_t n = 0; error == 0 && (n = ::read(from, part.data(), part.size())) != 0;)
                error = n < 0 ? (errno == EINTR ? 0 : errno) : write_all(stream_, part.data(), static_cast<std::size_t>(n));
            ::close(from);
            if (error != 0) refuse(reason(error));
            ::unlink(unfinished_.c_str());
        }
        done_ = true;
        return;
    }
    // another program may have written under the name by way of a file of its own
    int fd = ::open(unfinished_.c_str(), O_RDONLY | O_NOFOLLOW | O_CLOEXEC);
    if (fd < 0) refuse(reason(errno));
    struct stat now {};
    bool replaced = ::stat(target_.c_str(), &now) == 0;
    if (replaced) {
        // who may read it, and whose it is, stays; another's owner can be kept by root only
        (void)!::fchown(fd, now.st_uid, now.st_gid);
        (void)!::fchmod(fd, now.st_mode & 07777);
    }
    int error = on_disk(fd) ? 0 : errno;
    ::close(fd);
    if (error == 0 && ::rename(unfinished_.c_str(), target_.c_str()) != 0) error = errno;
    if (error != 0) {
        done_ = true;
        throw RecordingError(
            fmt::format("'{}' cannot be {}: {}; what was written stays in '{}'", path_, replaced ? "replaced" : "written", reason(error), unfinished_));
    }
    done_ = true;
    close_descriptor();
    // the name itself
    int folder = ::open(fs::path(target_).parent_path().c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    if (folder < 0) return;
    on_disk(folder);
    ::close(folder);
}

void OutputFile::keep()
{
    done_ = true;
    close_descriptor();
}

void write_whole(const std::string& path, const std::string& text, const OutputRules& rules)
{
    OutputFile file(path, rules);
    file.write(text);
    file.publish();
}

namespace {
constexpr std::size_t kHead = 4096;
}

bool is_picture(const std::string& path)
{
    std::string head = first_bytes(path, kHead);
    return head.starts_with("\x89PNG") || head.starts_with("%PDF") || head.find("<svg") != std::string::npos;
}

bool is_report(const std::string& path)
{
    std::string head = first_bytes(path, kHead);
    return head.starts_with("<!DOCTYPE html>") && head.find("<link rel=\"icon\" href=\"data:,\">") != std::string::npos;
}

bool is_xml(const std::string& path)
{
    return first_bytes(path, kHead).starts_with("<?xml");
}

}  // namespace netloop
