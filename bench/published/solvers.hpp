// SPDX-License-Identifier: Apache-2.0
// The programs of general numerics that the problems are solved by beside Net Loop, each as well as we could set it up.
#pragma once

#include <string>
#include <vector>

#include "problem.hpp"

namespace published {

struct Solved {
    bool done = false;
    double seconds = 0;
    long steps = 0;
    std::vector<std::vector<double>> rows;  ///< the states at the wanted times
};

struct Way {
    std::string name;
    Solved (*solve)(const Problem&, double tolerance, const std::vector<double>& times);
    bool is_default = false;                 ///< as a user gets it who sets tolerances and a Jacobian
    bool (*fits)(const Problem&) = nullptr;  ///< null: all of them
};

/// SUNDIALS: IDA, CVODE as it comes and with the matrix renewed every five steps, CVODE Adams. All have exact Jacobians, compiled vector kernels and a compiled
/// full or banded elimination in place of Debian's, which are built without optimisation.
/// Boost.odeint: Dormand-Prince 5, Fehlberg 7(8), Bulirsch-Stoer; and its Rosenbrock method of order 4.
const std::vector<Way>& ways();
/// Explicit systems: Fehlberg 7(8) of Boost.odeint in long double at 1e-16, where that takes less than 20 s; else CVODE at 3e-13.
/// Others: IDA at 1e-12 or as near to that as it can.
Solved reference(const Problem& p, const std::vector<double>& times);

}  // namespace published
