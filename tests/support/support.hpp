// SPDX-License-Identifier: Apache-2.0
// What many tests need: a model from a text run to a recording, a program run as a process, a scratch folder.
#pragma once

#include <netloop/netloop.hpp>

#include <string>
#include <vector>

namespace test {

/// A folder of its own for each test, removed at the end.
class Scratch {
public:
    Scratch();
    ~Scratch();
    Scratch(const Scratch&) = delete;
    Scratch& operator=(const Scratch&) = delete;
    std::string operator/(const std::string& name) const { return path_ + "/" + name; }
    const std::string& path() const { return path_; }

private:
    std::string path_;
};

struct Outcome {
    int code = -1;  ///< exit code; 128 + n after signal n
    std::string out, err;
};
/// Runs a shell command and waits for it.
Outcome shell(const std::string& command);
/// Runs the netloop program with these arguments.
Outcome netloop(const std::string& arguments);

std::string read_file(const std::string& path);
void write_file(const std::string& path, const std::string& text);
std::string source_path(const std::string& relative);

/// A model of the examples, with the scenario to take.
struct Shipped {
    std::string file, scenario;
};
/// All of them; files that only others use are left out.
std::vector<Shipped> shipped_models();

/// Compiles a text (with no scenario unless one is named or the only one) and runs it.
netloop::Recording simulate(const std::string& text, double stop, double tolerance = 1e-9, double output_every = 0);
/// The same for the parts and statements of one system, with these libraries in sight: "mechanics, heat".
netloop::Recording simulate_parts(const std::string& libraries, const std::string& body, double stop, double tolerance = 1e-9, double output_every = 0);
netloop::CompiledSystem compile(const std::string& text, const std::vector<std::pair<std::string, std::string>>& set = {});
/// All errors of a text that must not compile: "slug:line".
std::vector<std::string> errors_of(const std::string& text);
/// The rendered text of all messages of a faulty text; empty if it compiles.
std::string messages_of(const std::string& text);

}  // namespace test
