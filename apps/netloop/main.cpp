// SPDX-License-Identifier: Apache-2.0
// The command line: argument parsing and printing, nothing else.
#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>
#include <new>

#include "base/interrupt.hpp"
#include "commands.hpp"

namespace {

int run_command(int argc, char** argv)
{
    CLI::App program{"Net Loop: models of hydraulic, thermal, electrical and mechanical machines, checked, compiled and simulated", "netloop"};
    program.require_subcommand(1);
    program.set_version_flag("--version", NETLOOP_VERSION);
    program.footer("A first look:  netloop run examples/bascule/bridge.loop --out bridge.h5\n               netloop describe hydraulics.ReliefValve");
    std::vector<Command> commands{add_check(program), add_run(program),      add_events(program),  add_list(program),     add_describe(program),
                                  add_plot(program),  add_property(program), add_test(program),    add_compare(program),  add_convert(program),
                                  add_draw(program),  add_report(program),   add_format(program),  add_units(program),    add_linear(program),
                                  add_modes(program), add_cost(program),     add_advise(program),  add_realtime(program), add_export(program),
                                  add_study(program), add_work(program),     add_results(program), add_rerun(program),    add_store(program)};
    try {
        program.parse(argc, argv);
    } catch (const CLI::ParseError& error) {
        int code = program.exit(error);
        return code == 0 ? 0 : 2;
    }
    try {
        for (const Command& command : commands)
            if (*command.app) return command.run();
    } catch (const netloop::ModelError& error) {
        print_diagnostics(error.diagnostics(), false);
        return 1;
    } catch (const netloop::RunError& error) {
        tell("error: {}\n", error.what());
        if (!error.hint().empty()) tell("      to mend: {}\n", error.hint());
        tell("      [{}]\n", error.id());
        return 1;
    } catch (const netloop::StoreError& error) {
        tell("error: {}\n", error.what());
        if (!error.hint().empty()) tell("      to mend: {}\n", error.hint());
        tell("      [{}]\n", error.id());
        return 1;
    } catch (const netloop::Error& error) {
        tell("error: {}\n", error.what());
        if (!error.hint().empty()) tell("      to mend: {}\n", error.hint());
        return dynamic_cast<const netloop::UsageError*>(&error) != nullptr ? 2 : 1;
    } catch (const std::bad_alloc&) {
        tell_without_memory("error: this does not fit into the memory that the program may have\n");
        return 1;
    } catch (const std::exception& error) {
        tell("error: {} (this is a fault of netloop: please report it with the model)\n", error.what());
        return 1;
    }
    return 2;
}

}  // namespace

int main(int argc, char** argv)
{
    prepare_console();
    int code = 1;
    try {
        // loading, compiling, drawing: all that this thread does looks at it
        netloop::InterruptScope scope(&interrupted());
        code = run_command(argc, argv);
    } catch (...) {  // telling took memory that was not there
        tell_without_memory("error: the program ran out of memory\n");
    }
    if (!finish_console()) code = std::max(code, 1);
    // libhdf5 1.10 closes at exit what it could not write, and falls over it
    if (code != 0) std::_Exit(code);
    return 0;
}
