// SPDX-License-Identifier: Apache-2.0
// The interpreter: always there, the fallback of machine code and its oracle.
#pragma once

#include "evaluate/program.hpp"

namespace netloop {

/// Runs one kernel, operation by operation; over many instances block by block of them, so that the dispatch costs nothing there.
void interpret(const Kernel& kernel, const Callables& callables, double* memory, std::vector<double>& registers);

/// Straight code rearranged into stretches of one operation: the processor foresees where a stretch goes, which it cannot in long code
/// of mixed operations.
struct GroupedCode {
    struct Stretch {
        Op op = Op::constant;
        std::uint32_t n = 0;
    };
    std::vector<Stretch> stretches;
    std::vector<std::uint32_t> to, a, b, c;  ///< places; of a lookup or a call, c is the index of its instruction
};
GroupedCode group(const Kernel& straight);
void interpret(const GroupedCode& code, const Kernel& kernel, const Callables& callables, double* memory);

/// Every place (or register) that an instruction reads.
template <typename Visit>
void each_place_read(const Kernel& kernel, const Instruction& i, Visit visit)
{
    if (i.op == Op::call) {
        for (std::uint32_t k = 0; k < i.c; ++k) visit(kernel.arguments[i.b + k]);
        return;
    }
    if (i.op != Op::lookup) visit(i.a);
    if (n_children(i.op) > 1) visit(i.b);
    if (n_children(i.op) > 2 || (i.op == Op::lookup && i.c != kNoNode)) visit(i.c);
}

}  // namespace netloop
