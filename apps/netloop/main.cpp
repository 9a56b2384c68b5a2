// The command line: argument parsing and printing, nothing else.
#include <fmt/format.h>

#include <cstdio>

#include "commands.hpp"

int main(int argc, char** argv)
{
    CLI::App program{"Net Loop: models of hydraulic, thermal, electrical and mechanical machines, checked, compiled and simulated", "netloop"};
    program.require_subcommand(1);
    program.set_version_flag("--version", NETLOOP_VERSION);
    program.footer("A first look:  netloop run examples/bascule/bridge.loop --out bridge.h5\n               netloop describe hydraulics.ReliefValve");
    std::vector<Command> commands{add_check(program), add_run(program),      add_events(program), add_list(program),    add_describe(program),
                                  add_plot(program),  add_property(program), add_test(program),   add_compare(program), add_convert(program),
                                  add_draw(program),  add_report(program),   add_format(program)};
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
        fmt::print(stderr, "error: {}\n", error.what());
        if (!error.hint().empty()) fmt::print(stderr, "      to mend: {}\n", error.hint());
        fmt::print(stderr, "      [{}]\n", error.id());
        return 1;
    } catch (const netloop::RecordingError& error) {
        fmt::print(stderr, "error: {}\n", error.what());
        return 1;
    } catch (const netloop::UsageError& error) {
        fmt::print(stderr, "error: {}\n", error.what());
        return 2;
    } catch (const std::bad_alloc&) {
        fmt::print(stderr, "error: the model does not fit into the memory of this machine\n");
        return 1;
    } catch (const std::exception& error) {
        fmt::print(stderr, "error: {} (this is a fault of netloop: please report it with the model)\n", error.what());
        return 1;
    }
    return 2;
}
