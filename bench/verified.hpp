// SPDX-License-Identifier: Apache-2.0
// What is measured must be right first: each system of the bench is run once and held against its equations as written, before it is timed.
#pragma once

#include <netloop/netloop.hpp>

#include <cstdio>
#include <cstdlib>

namespace netloop {

/// Ends the program with exit code 1, and says why, if the run does not hold. Without recording; the options are otherwise those that are timed.
inline void run_verified(const CompiledSystem& system, RunOptions options = {})
{
    options.verify = true;
    options.out.clear();
    Run run(system);
    run.simulate(options);
    const Verification& v = run.summary().verification;
    if (v.holds) return;
    std::fprintf(stderr, "not verified, and so not measured: %s", v.text().c_str());
    std::exit(1);
}

}  // namespace netloop
