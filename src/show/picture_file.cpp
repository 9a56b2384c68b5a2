#include "show/picture_file.hpp"

#include <fmt/format.h>

#include <cstdio>
#include <filesystem>

#include "netloop/recording.hpp"

namespace netloop {

namespace fs = std::filesystem;

std::string unfinished_picture(const std::string& out)
{
    return out + ".unfinished";
}

void draw_by(const std::string& program, const std::string& command, const std::string& text, const std::string& out)
{
    std::error_code error;
    std::string unfinished = unfinished_picture(out);
    std::FILE* pipe = popen(command.c_str(), "w");
    if (pipe == nullptr) throw RecordingError(fmt::format("{} cannot be started", program));
    bool written = std::fwrite(text.data(), 1, text.size(), pipe) == text.size();
    int status = pclose(pipe);
    if (!written || status != 0 || fs::file_size(unfinished, error) == 0 || error) {
        fs::remove(unfinished, error);
        throw RecordingError(fmt::format("'{}' cannot be drawn: {} is not installed, or the file cannot be written there", out, program));
    }
    fs::rename(unfinished, out, error);
    if (error) throw RecordingError(fmt::format("'{}' cannot be written: {}", out, error.message()));
}

}  // namespace netloop
