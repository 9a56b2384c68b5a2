// SPDX-License-Identifier: Apache-2.0
// The program: linear code over one array of numbers, no pointers into the graph. A kernel is straight-line code run over
// 1..n instances with an index table; equal equations of many parts are instances of one kernel.
#pragma once

#include <cstdint>
#include <memory>
#include <string>
#include <vector>

#include "algebra/graph.hpp"

namespace netloop {

/// Where the inputs of all programs of one compiled system lie in a run's memory. Every program reads the same inputs; its own
/// intermediate values and results lie behind them.
struct MemoryLayout {
    std::uint32_t time = 0;
    std::uint32_t parameters = 1;
    std::uint32_t modes = 1;
    std::uint32_t memories = 1;
    std::uint32_t z = 1;
    std::uint32_t rates = 1;
    std::uint32_t constants = 1;  ///< literals, then values that depend on parameters only
    std::uint32_t size = 1;       ///< of everything, scratch included
};

struct Instruction {
    Op op = Op::constant;
    std::uint8_t flag = 0;
    std::uint32_t to = 0;
    std::uint32_t a = 0, b = 0, c = 0;  ///< scalar kernels: places in memory; else registers. lookup: a is the table; call: a is the
                                        ///< callable, its c arguments are listed in the kernel from b on
};

struct Kernel {
    std::uint32_t n_instances = 1;
    std::uint32_t n_inputs = 0;  ///< registers 0 .. n_inputs - 1 are loaded
    std::uint32_t n_registers = 0;
    std::vector<Instruction> code;
    std::vector<std::uint32_t> arguments;  ///< of calls, as places or registers
    std::vector<std::uint32_t> inputs;     ///< place of input k of instance i: inputs[k * n_instances + i]
    std::vector<std::uint32_t> output_registers;
    std::vector<std::uint32_t> outputs;  ///< place of output k of instance i: outputs[k * n_instances + i]
};

/// How programs are run. All give the same numbers, bit for bit.
enum class Evaluator : std::uint8_t {
    automatic,  ///< interpreted at first, machine code as soon as it pays
    plain,      ///< operation by operation; kernels over instances by blocks of them
    grouped,    ///< the same, straight code rearranged into runs of one operation
    machine     ///< machine code; where there is none, as `grouped`
};

class Executable;

struct Program {
    std::string name;
    std::vector<Kernel> kernels;
    std::vector<std::uint32_t> results;          ///< place of each root
    std::shared_ptr<const Executable> prepared;  ///< what execute() runs; made by prepare()

    std::size_t n_operations() const;  ///< counted over instances
    std::string text() const;          ///< what `check --show program` prints
};

/// What a program refers to besides its memory.
struct Callables {
    const std::vector<TablePtr>& tables;
    const std::vector<CallablePtr>& functions;
};

/// Makes a finished program ready to be run. What the callables refer to must outlive it.
void prepare(Program& program, const Callables& callables);
/// Runs a prepared program; from several threads at once if each has its own memory. `memory` has MemoryLayout::size numbers;
/// `scratch` grows as needed.
void execute(const Program& program, Evaluator evaluator, std::vector<double>& memory, std::vector<double>& scratch);

}  // namespace netloop
