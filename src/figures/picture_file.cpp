// SPDX-License-Identifier: Apache-2.0
#include "figures/picture_file.hpp"

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

std::string picture_form(const std::string& out)
{
    return out == "-" ? ".svg" : fs::path(out).extension().string();
}

namespace {

// The program's exit code; 127 if there is no such program.
int run(const std::string& program, const std::vector<std::string>& arguments, const std::string& input, const std::string& said)
{
    std::vector<char*> words{const_cast<char*>(program.c_str())};
    for (const std::string& a : arguments) words.push_back(const_cast<char*>(a.c_str()));
    words.push_back(nullptr);
    posix_spawn_file_actions_t files;
    posix_spawn_file_actions_init(&files);
    posix_spawn_file_actions_addopen(&files, STDIN_FILENO, input.c_str(), O_RDONLY, 0);
    posix_spawn_file_actions_addopen(&files, STDOUT_FILENO, "/dev/null", O_WRONLY, 0);
    posix_spawn_file_actions_addopen(&files, STDERR_FILENO, said.c_str(), O_WRONLY | O_CREAT | O_TRUNC, 0600);
    pid_t child = 0;
    int failure = posix_spawnp(&child, program.c_str(), &files, nullptr, words.data(), environ);
    posix_spawn_file_actions_destroy(&files);
    if (failure != 0) return 127;
    int status = 0;
    while (waitpid(child, &status, 0) < 0 && errno == EINTR) {
    }
    return WIFEXITED(status) ? WEXITSTATUS(status) : 126;
}

}  // namespace

void draw_by(const std::string& program, const std::function<std::vector<std::string>(const std::string&)>& arguments,
             const std::function<std::string(const std::string&)>& input, const std::string& out, const std::vector<std::string>& inputs)
{
    OutputFile file(out, {.what = "a picture", .replaces = is_picture, .inputs = inputs, .by_name = true});
    OwnFolder folder;
    std::string script = (folder / "input").string(), said = (folder / "said").string();
    write_whole(script, input(file.unfinished()), {.what = "the program's input"});
    int code = run(program, arguments(file.unfinished()), script, said);
    std::error_code error;
    if (code == 0 && fs::file_size(file.unfinished(), error) > 0 && !error) return file.publish();
    std::string why;
    std::ifstream in(said);
    for (std::string line; why.empty() && std::getline(in, line);)
        if (line.find_first_not_of(" \t^") != std::string::npos) why = line;
    if (code == 127) why = fmt::format("the program '{}' is not installed (Debian packages: gnuplot-nox, graphviz)", program);
    if (why.empty()) why = code == 0 ? fmt::format("'{}' wrote nothing: the disk may be full", program) : fmt::format("'{}' ended with {}", program, code);
    throw RecordingError(fmt::format("'{}' cannot be drawn: {}", out, why));
}

}  // namespace netloop
