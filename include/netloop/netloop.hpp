// SPDX-License-Identifier: Apache-2.0
// Net Loop: one-dimensional acausal models of hydraulic, thermal, electrical and mechanical machines, simulated over time.
//
// Reading order for a new user of the C++ interface:
//   1. quantity.hpp   numbers with units: q(35, "L/min"), 80_mm
//   2. library.hpp    component definitions: the shipped libraries, files, texts
//   3. builder.hpp    systems and components made by a program
//   4. system.hpp     compile: definitions -> CompiledSystem
//   5. run.hpp        set, simulate, step, read; recording.hpp: what a run recorded
//   6. linear_model.hpp, modes.hpp: what run.linear() and run.modes() give; advise.hpp: what to change
//   7. fixed_steps.hpp: machines in steps of bounded work, here and as C
//   8. study.hpp      many runs: studies of the language, run_all; store.hpp: where they are kept
//   9. property.hpp   properties of fluids as plain functions; units.hpp: the units
//
//     #include <netloop/netloop.hpp>
//     namespace nl = netloop;
//     nl::Library library = nl::Library::standard();
//     library.load_file("bridge.loop");
//     nl::CompiledSystem system = nl::compile(library, {.scenario = "calm_day"});
//     nl::Run run(system);
//     nl::Recording rec = run.simulate();
//     double peak = rec["pump.outlet.p"].max();  // Pa
#pragma once

#include "netloop/advise.hpp"
#include "netloop/builder.hpp"
#include "netloop/cost.hpp"
#include "netloop/error.hpp"
#include "netloop/fixed_steps.hpp"
#include "netloop/library.hpp"
#include "netloop/linear_model.hpp"
#include "netloop/modes.hpp"
#include "netloop/property.hpp"
#include "netloop/quantity.hpp"
#include "netloop/recording.hpp"
#include "netloop/run.hpp"
#include "netloop/store.hpp"
#include "netloop/study.hpp"
#include "netloop/system.hpp"
#include "netloop/units.hpp"
