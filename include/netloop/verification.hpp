// SPDX-License-Identifier: Apache-2.0
// What a check of a run against its model as written has found.
#pragma once

#include <cstddef>
#include <string>
#include <vector>

namespace netloop {

/// The equations as the text states them (with every joint's sums and equalities), lets, inits, ranges and the values of params, evaluated at
/// each row and at both sides of each event by an evaluator that shares nothing with the compiled programs, on the values that the run gives for all
/// quantities and their rates; and, between rows, whether rates are the slopes of what is integrated. An error of an equation is judged by how
/// far its two sides would move apart if each quantity in it were off by its own size (or by its usual size if that is larger).
struct Verification {
    struct Finding {
        enum class Kind { equation, joint, let, init, range, slope, param } kind = Kind::equation;
        std::string text;   ///< "area * p = force", as the program reads it
        std::string part;   ///< path of the instance that states it; empty: the system
        std::string place;  ///< "file:line"
        double time = 0;    ///< s, where it is off most
        double left = 0, right = 0;
        std::string unit;  ///< of both; empty: not known, SI
        double share = 0;  ///< what it is off by, as a share of the size of its terms; infinite where a side has no value
        /// As a line of text.
        std::string line() const;
    };
    bool done = false;       ///< false: nothing was verified
    bool holds = true;       ///< no share is beyond `limit`
    double limit = 0;        ///< follows from the run's tolerance, which it is, but at least 1e-8
    std::size_t points = 0;  ///< rows, sides of events, and points between them
    std::size_t equations = 0, lets = 0, inits = 0, ranges = 0;
    std::size_t not_known = 0;      ///< equations and lets in which a derivative stands that is not worked out
    std::size_t slopes = 0;         ///< slopes compared with rates
    double worst = 0;               ///< largest share of all
    std::vector<Finding> findings;  ///< the worst, worst first, at most ten; those within the limit, too
    /// One line for a summary.
    std::string one_line() const;
    /// That line, and those findings that are beyond the limit; all of them if `all`.
    std::string text(bool all = false) const;
};

}  // namespace netloop
