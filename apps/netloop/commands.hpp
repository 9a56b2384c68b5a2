// SPDX-License-Identifier: Apache-2.0
// The commands: each adds itself to the parser and returns its exit code when it is chosen.
// 0: done; 1: the model, the data or a demand failed; 2: wrong usage.
#pragma once

#include <CLI/CLI.hpp>
#include <netloop/netloop.hpp>

#include <functional>
#include <string>
#include <utility>
#include <vector>

#include "console.hpp"

struct Command {
    CLI::App* app = nullptr;
    std::function<int()> run;
};

Command add_check(CLI::App& program);
Command add_run(CLI::App& program);
Command add_events(CLI::App& program);
Command add_list(CLI::App& program);
Command add_describe(CLI::App& program);
Command add_plot(CLI::App& program);
Command add_property(CLI::App& program);
Command add_test(CLI::App& program);
Command add_compare(CLI::App& program);
Command add_convert(CLI::App& program);
Command add_draw(CLI::App& program);
Command add_report(CLI::App& program);
Command add_format(CLI::App& program);
Command add_units(CLI::App& program);
Command add_linear(CLI::App& program);
Command add_modes(CLI::App& program);
Command add_cost(CLI::App& program);
Command add_advise(CLI::App& program);
Command add_realtime(CLI::App& program);
Command add_export(CLI::App& program);
Command add_study(CLI::App& program);
Command add_work(CLI::App& program);
Command add_results(CLI::App& program);
Command add_rerun(CLI::App& program);
Command add_store(CLI::App& program);

/// "path=value" texts of --set taken apart. Throws netloop::UsageError.
std::vector<std::pair<std::string, std::string>> split_settings(const std::vector<std::string>& settings);
/// A number with its unit, such as "250K"; without one in the unit `otherwise`. Throws netloop::UsageError that names
/// the option and says `what` is expected.
netloop::Quantity quantity_from(const std::string& text, const std::string& otherwise, const std::string& option, const std::string& what,
                                const std::string& example);
/// A time such as "60", "60s", "2 min". Throws netloop::UsageError.
double seconds_from(const std::string& text, const std::string& option);
/// A recording for a command that reads one: looked at by a process of its own first, since a damaged file can bring down the library that reads it; a note
/// tells if its run did not come to its end. Throws netloop::RecordingError.
netloop::Recording open_recording(const std::string& path);
void print_diagnostics(const std::vector<netloop::Diagnostic>& diagnostics, bool notes);
nlohmann::json json_of(const std::vector<netloop::Diagnostic>& diagnostics);
