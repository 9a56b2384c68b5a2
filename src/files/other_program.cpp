// SPDX-License-Identifier: Apache-2.0
#include "files/other_program.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>
#include <cstdlib>
#include <cstring>
#include <fstream>

#include "files/output_file.hpp"
#include "netloop/recording.hpp"

namespace netloop {

namespace fs = std::filesystem;

OwnFolder::OwnFolder()
{
    std::string name = temporary_name();
    if (mkdtemp(name.data()) == nullptr)
        throw RecordingError(fmt::format("no folder can be made in '{}': {}", fs::path(name).parent_path().string(), std::strerror(errno)));
    path_ = name;
}

OwnFolder::~OwnFolder()
{
    std::error_code error;
    fs::remove_all(path_, error);
}

int run_program(const std::string& program, const std::vector<std::string>& arguments, const ProgramFiles& files)
{
    std::vector<char*> words{const_cast<char*>(program.c_str())};
    for (const std::string& a : arguments) words.push_back(const_cast<char*>(a.c_str()));
    words.push_back(nullptr);
    posix_spawn_file_actions_t actions;
    posix_spawn_file_actions_init(&actions);
    auto open = [&](int descriptor, const std::string& path, bool write) {
        posix_spawn_file_actions_addopen(&actions, descriptor, path.empty() ? "/dev/null" : path.c_str(), write ? O_WRONLY | O_CREAT | O_TRUNC : O_RDONLY,
                                         0600);
    };
    open(STDIN_FILENO, files.input, false);
    open(STDOUT_FILENO, files.output, true);
    open(STDERR_FILENO, files.said, true);
    if (!files.folder.empty()) posix_spawn_file_actions_addchdir_np(&actions, files.folder.c_str());
    pid_t child = 0;
    int failure = posix_spawnp(&child, program.c_str(), &actions, nullptr, words.data(), environ);
    posix_spawn_file_actions_destroy(&actions);
    if (failure != 0) return 127;
    int status = 0;
    while (waitpid(child, &status, 0) < 0 && errno == EINTR) {
    }
    return WIFEXITED(status) ? WEXITSTATUS(status) : 126;
}

std::string first_words(const std::string& file)
{
    std::ifstream in(file);
    std::string first;
    for (std::string line; std::getline(in, line);) {
        if (line.find("error:") != std::string::npos) return line;
        if (first.empty() && line.find_first_not_of(" \t^") != std::string::npos) first = line;
    }
    return first;
}

}  // namespace netloop
