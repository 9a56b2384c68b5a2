// SPDX-License-Identifier: Apache-2.0
// `format`: one layout for all .loop files.
#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <iostream>
#include <iterator>
#include <memory>

#include "commands.hpp"
#include "files/input_file.hpp"
#include "files/output_file.hpp"

namespace {

namespace fs = std::filesystem;

struct Options {
    std::vector<std::string> paths;
    bool check = false;
};

std::vector<std::string> files_of(const std::vector<std::string>& paths)
{
    std::vector<std::string> files;
    for (const std::string& p : paths) {
        std::error_code error;
        if (fs::is_directory(p, error)) {
            std::size_t before = files.size();
            for (const auto& e : fs::recursive_directory_iterator(p))
                if (e.is_regular_file() && e.path().extension() == ".loop") files.push_back(e.path().string());
            std::sort(files.begin() + static_cast<long>(before), files.end());
            if (files.size() == before) throw netloop::UsageError(fmt::format("there is no .loop file in '{}'", p));
        } else if (!fs::exists(p, error)) {
            throw netloop::UsageError(fmt::format("'{}' does not exist", p));
        } else {
            files.push_back(p);
        }
    }
    return files;
}

int run_format(const Options& o)
{
    if (o.paths == std::vector<std::string>{"-"}) {
        std::string text{std::istreambuf_iterator<char>(std::cin), std::istreambuf_iterator<char>()}, made = netloop::format_text("standard input", text);
        if (!o.check) show_text(made);
        return o.check && made != text ? 1 : 0;
    }
    std::size_t n = 0, broken = 0;
    std::vector<std::string> files = files_of(o.paths);
    for (const std::string& file : files) {
        std::string text, made;
        try {
            constexpr std::size_t kMost = 64;
            text = netloop::read_text_file(file, kMost * netloop::kMiB);
        } catch (const netloop::FileProblem& problem) {
            throw netloop::RecordingError(fmt::format("'{}' cannot be read: {}", file, problem.what()));
        }
        try {
            made = netloop::format_text(file, text);
        } catch (const netloop::ModelError& error) {  // the others are laid out nevertheless
            print_diagnostics(error.diagnostics(), false);
            ++broken;
            continue;
        }
        if (made == text) continue;
        ++n;
        show("{}\n", file);
        if (!o.check) netloop::write_whole(file, made, {.what = "a model's text", .model_text = true});
    }
    const char* done = o.check ? "would change" : "changed";
    show("{} of {} files {}\n", n, files.size(), done);
    return broken > 0 || (o.check && n > 0) ? 1 : 0;
}

}  // namespace

Command add_format(CLI::App& program)
{
    auto o = std::make_shared<Options>();
    CLI::App* app = program.add_subcommand("format", "Lay out .loop files: blanks, columns, empty lines; lines, comments and meaning stay");
    app->add_option("files", o->paths, "files, folders (all .loop files in them), or - for standard input to standard output")->required();
    app->add_flag("--check", o->check, "change nothing; exit code 1 if something would change");
    app->footer("Example:  netloop format examples/bascule");
    return {app, [o] { return run_format(*o); }};
}
