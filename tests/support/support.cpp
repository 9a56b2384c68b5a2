// SPDX-License-Identifier: Apache-2.0
#include "support/support.hpp"

#include <sys/wait.h>
#include <unistd.h>

#include <array>
#include <atomic>
#include <cstdio>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <iterator>

namespace test {
namespace fs = std::filesystem;

Scratch::Scratch()
{
    static std::atomic<int> number{0};
    path_ = (fs::temp_directory_path() / ("netloop_test_" + std::to_string(getpid()) + "_" + std::to_string(number++))).string();
    fs::create_directories(path_);
}
Scratch::~Scratch()
{
    std::error_code error;
    fs::permissions(path_, fs::perms::owner_all, error);
    fs::remove_all(path_, error);
}

Outcome shell(const std::string& command)
{
    Scratch scratch;
    std::string full = "( " + command + " ) >" + (scratch / "out") + " 2>" + (scratch / "err") + " </dev/null";
    int status = std::system(full.c_str());
    Outcome o;
    o.code = WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
    o.out = read_file(scratch / "out");
    o.err = read_file(scratch / "err");
    return o;
}

Outcome netloop(const std::string& arguments)
{
    const char* program = std::getenv("NETLOOP_PROGRAM");
    return shell(std::string(program != nullptr ? program : "netloop") + " " + arguments);
}

std::string read_file(const std::string& path)
{
    std::ifstream in(path, std::ios::binary);
    return {std::istreambuf_iterator<char>(in), std::istreambuf_iterator<char>()};
}

void write_file(const std::string& path, const std::string& text)
{
    std::ofstream(path, std::ios::binary) << text;
}

std::string source_path(const std::string& relative)
{
    return (fs::path(NETLOOP_SOURCE_DIR) / relative).string();
}

netloop::CompiledSystem compile(const std::string& text, const std::vector<std::pair<std::string, std::string>>& set)
{
    netloop::Library library = netloop::Library::standard();
    library.load_text("test.loop", text);
    netloop::CompileRequest request;
    request.set = set;
    return netloop::compile(library, request);
}

netloop::Recording simulate(const std::string& text, double stop, double tolerance, double output_every)
{
    netloop::Run run(compile(text));
    netloop::RunOptions options;
    options.stop = stop;
    options.tolerance = tolerance;
    if (output_every > 0) options.output_every = output_every;
    return run.simulate(options);
}

std::vector<std::string> errors_of(const std::string& text)
{
    std::vector<std::string> list;
    try {
        compile(text);
    } catch (const netloop::ModelError& error) {
        for (const auto& d : error.diagnostics())
            if (d.severity == netloop::Diagnostic::Severity::error) list.push_back(d.id + ":" + std::to_string(d.line));
    }
    return list;
}

std::string messages_of(const std::string& text)
{
    try {
        compile(text);
    } catch (const netloop::ModelError& error) {
        return error.what();
    }
    return {};
}

netloop::Recording simulate_parts(const std::string& libraries, const std::string& body, double stop, double tolerance, double output_every)
{
    return simulate("use " + libraries + "\nsystem S {\n" + body + "\n}\n", stop, tolerance, output_every);
}

std::vector<Shipped> shipped_models()
{
    std::vector<Shipped> list;
    for (const char* folder : {"examples/bascule", "examples/bascule/whole", "examples/heat", "examples/electrics", "examples/first", "examples/mechanisms",
                               "examples/switching", "examples/gas", "examples/hydraulics", "examples/canal"})
        for (const auto& entry : std::filesystem::directory_iterator(source_path(folder))) {
            if (!entry.is_regular_file()) continue;
            std::string text = read_file(entry.path().string());
            std::size_t at = text.find("\nscenario ");
            bool library = text.find("\nsystem ") == std::string::npos && text.rfind("system ", 0) != 0;
            bool large = entry.path().filename() == "network.loop";  // has tests of its own
            if (entry.path().extension() != ".loop" || library || large) continue;
            std::string scenario;
            if (at != std::string::npos) scenario = text.substr(at + 10, text.find_first_of(" {", at + 10) - at - 10);
            list.push_back({entry.path().string(), scenario});
        }
    return list;
}

}  // namespace test
