// SPDX-License-Identifier: Apache-2.0
#include "foreign/unit_archive.hpp"

#include <fmt/format.h>
#include <sys/stat.h>
#include <zip.h>

#include <filesystem>
#include <fstream>
#include <memory>
#include <vector>

#include "foreign/unit_description.hpp"

namespace fs = std::filesystem;

namespace netloop {
namespace {

#if defined(__x86_64__)
constexpr const char* kPlatform2 = "linux64";
constexpr const char* kPlatform3 = "x86_64-linux";
#elif defined(__aarch64__)
constexpr const char* kPlatform2 = "aarch64-linux";
constexpr const char* kPlatform3 = "aarch64-linux";
#else
constexpr const char* kPlatform2 = "linux";
constexpr const char* kPlatform3 = "linux";
#endif

struct CloseArchive {
    void operator()(zip_t* a) const { zip_discard(a); }
};
struct CloseFile {
    void operator()(zip_file_t* f) const { zip_fclose(f); }
};

// Nothing of the archive may lie outside the folder, nor stand for something there.
void look_at_name(const std::string& name)
{
    auto refuse = [&](const char* why) { throw UnitProblemFound(fmt::format("its archive holds '{}', {}", name.substr(0, 100), why)); };
    if (name.empty() || name.find('\0') != std::string::npos) refuse("which is no name of a file");
    if (name[0] == '/' || (name.size() > 1 && name[1] == ':')) refuse("an absolute path");
    if (name.find('\\') != std::string::npos) refuse("a path with a back stroke");
    for (const fs::path& step : fs::path(name))
        if (step == "..") refuse("a path that leads out of it");
}

bool is_link(zip_t* archive, zip_uint64_t index)
{
    zip_uint8_t system = 0;
    zip_uint32_t attributes = 0;
    if (zip_file_get_external_attributes(archive, index, 0, &system, &attributes) != 0) return false;
    mode_t mode = static_cast<mode_t>(attributes >> 16) & S_IFMT;
    return system == ZIP_OPSYS_UNIX && mode != 0 && mode != S_IFREG && mode != S_IFDIR;
}

std::string read_member(zip_t* archive, zip_uint64_t index, const std::string& name, std::size_t most)
{
    std::unique_ptr<zip_file_t, CloseFile> file(zip_fopen_index(archive, index, 0));
    if (file == nullptr) throw UnitProblemFound(fmt::format("'{}' of its archive cannot be read: {}", name, zip_strerror(archive)));
    std::string bytes;
    std::vector<char> piece(1 << 16);
    for (;;) {
        zip_int64_t n = zip_fread(file.get(), piece.data(), piece.size());
        if (n < 0) throw UnitProblemFound(fmt::format("'{}' of its archive is damaged: {}", name, zip_file_strerror(file.get())));
        if (n == 0) return bytes;
        bytes.append(piece.data(), static_cast<std::size_t>(n));
        if (bytes.size() > most) throw UnitProblemFound(fmt::format("'{}' of its archive has more than {} MiB", name, most >> 20));
    }
}

}  // namespace

UnitFolder::UnitFolder(const std::string& path)
{
    std::error_code error;
    if (!fs::is_regular_file(path, error)) throw UnitProblemFound(fs::exists(path, error) ? "it is no regular file" : "there is no such file");
    int failure = 0;
    std::unique_ptr<zip_t, CloseArchive> archive(zip_open(path.c_str(), ZIP_RDONLY, &failure));
    if (archive == nullptr) {
        zip_error_t why;
        zip_error_init_with_code(&why, failure);
        std::string text = zip_error_strerror(&why);
        zip_error_fini(&why);
        throw UnitProblemFound("it is no archive that can be read: " + text);
    }
    zip_int64_t n = zip_get_num_entries(archive.get(), 0);
    if (n < 0 || static_cast<std::size_t>(n) > kMostFiles) throw UnitProblemFound(fmt::format("its archive has more than {} files", kMostFiles));
    std::size_t left = kMostBytes;
    const std::string own[] = {fmt::format("binaries/{}/", kPlatform2), fmt::format("binaries/{}/", kPlatform3), "resources/"};
    for (zip_uint64_t i = 0; i < static_cast<zip_uint64_t>(n); ++i) {
        const char* raw = zip_get_name(archive.get(), i, ZIP_FL_ENC_GUESS);
        std::string name = raw == nullptr ? "" : raw;
        look_at_name(name);
        if (is_link(archive.get(), i)) throw UnitProblemFound(fmt::format("its archive holds '{}', which is no plain file", name));
        bool wanted = name == "modelDescription.xml";
        for (const std::string& begin : own) wanted |= name.starts_with(begin);
        if (!wanted || name.back() == '/') continue;
        std::string bytes = read_member(archive.get(), i, name, name == "modelDescription.xml" ? kMostDescription : left);
        left -= std::min(left, bytes.size());
        fs::path to = folder_ / name;
        fs::create_directories(to.parent_path());
        std::ofstream file(to, std::ios::binary);
        file << bytes;
        file.close();
        if (!file) throw UnitProblemFound(fmt::format("'{}' of its archive cannot be unpacked to {}", name, to.string()));
        if (name == "modelDescription.xml") description_ = std::move(bytes);
    }
    if (description_.empty()) throw UnitProblemFound("its archive holds no modelDescription.xml");
}

std::string unit_binary(const std::string& folder, int version, const std::string& name)
{
    const char* platform = version == 2 ? kPlatform2 : kPlatform3;
    fs::path file = fs::path(folder) / "binaries" / platform / (name + ".so");
    std::error_code error;
    if (!fs::is_regular_file(file, error)) throw UnitProblemFound(fmt::format("it has no binary for this machine (binaries/{}/{}.so)", platform, name));
    return file.string();
}

std::string unit_resources(const std::string& folder, int version)
{
    fs::path resources = fs::path(folder) / "resources";
    std::error_code error;
    fs::create_directories(resources, error);
    return version == 2 ? "file://" + resources.string() : resources.string() + "/";
}

}  // namespace netloop
