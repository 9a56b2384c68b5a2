#include "record/whole_file.hpp"

#include <fmt/format.h>

#include <filesystem>
#include <fstream>

#include "record/writer.hpp"

namespace netloop {

void write_whole(const std::string& path, const std::string& text)
{
    namespace fs = std::filesystem;
    std::string unfinished = unfinished_name(path);
    std::error_code error;
    {
        std::ofstream out(unfinished, std::ios::binary);
        if (!(out << text) || !out.flush()) {
            fs::remove(unfinished, error);
            throw RecordingError(fmt::format("'{}' cannot be written: the disk is full or failed", path));
        }
    }
    if (fs::exists(path, error)) fs::permissions(unfinished, fs::status(path).permissions(), error);
    fs::rename(unfinished, path, error);
    if (!error) return;
    std::string why = error.message();
    fs::remove(unfinished, error);
    throw RecordingError(fmt::format("'{}' cannot be written: {}", path, why));
}

}  // namespace netloop
