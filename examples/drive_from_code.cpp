// SPDX-License-Identifier: Apache-2.0
// A hydraulic drive put together by a program: pump, relief valve and an adjustable orifice that loads them. The program turns
// the orifice down step by step inside its own loop, then repeats a run with another pump, without compiling again.
#include <netloop/netloop.hpp>

#include <cstdio>

namespace nl = netloop;
using namespace nl::literals;

int main()
{
    nl::SystemBuilder drive("Drive", nl::Library::standard());
    drive.fluid("oil", "fluids.MineralOil", {{"grade", nl::q(46, "cSt")}});
    auto tank = drive.part("tank", "hydraulics.Tank", {{"oil", drive.ref("oil")}});
    auto motor = drive.part("motor", "mechanics.SpeedSource");
    auto pump = drive.part("pump", "hydraulics.FixedPump", {{"displacement", nl::q(16, "cm^3/rev")}});
    auto block = drive.part("block", "hydraulics.Volume", {{"volume", nl::q(1, "L")}});
    auto relief = drive.part("relief", "hydraulics.ReliefValve", {{"cracking", 180_bar}, {"rated_flow", 40_L_per_min}});
    auto load = drive.part("load", "hydraulics.AdjustableOrifice", {{"diameter", 3_mm}});
    drive.join({motor["shaft"], pump["shaft"]});
    drive.join({tank["outlet"], pump["inlet"], relief["outlet"], load["outlet"]});
    drive.join({pump["outlet"], block["a"], relief["inlet"], load["inlet"]});
    drive.feed(nl::Expression(1450_rpm), motor["speed"]);
    auto opening = drive.input("opening", "1", nl::q(1, "1"));
    drive.feed(opening, load["opening"]);
    drive.init(block["p"], nl::Expression(2_bar));

    nl::CompiledSystem system = nl::compile(drive);  // immutable, may be shared between threads
    nl::Run run(system);
    std::printf("%10s %14s %14s\n", "opening", "pressure bar", "relief L/min");
    for (int step = 0; step <= 5; ++step) {
        run.input("opening") = 1.0 - 0.15 * step;
        run.step_to(0.5 * (step + 1));
        std::printf("%10.2f %14.2f %14.3f\n", 1.0 - 0.15 * step, run.value("pump.outlet.p") / 1e5, run.value("relief.q") * 6e4);
    }

    nl::Run larger(system);
    larger.set("pump.displacement", nl::q(20, "cm^3/rev"));  // no recompilation
    nl::Recording rec = larger.simulate({.stop = 1.0, .output_every = 0.01});
    std::printf("larger pump: peak %.2f bar\n", rec["pump.outlet.p"].in("bar").max());
    return 0;
}
