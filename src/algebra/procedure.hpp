// SPDX-License-Identifier: Apache-2.0
// Functions whose loops are not known in length when the model is compiled: small programs that an expression calls.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "algebra/callable.hpp"
#include "algebra/graph.hpp"

namespace netloop {

/// One step of a procedure. Expressions stand in the model's graph; their leaves are registers: Op::unknown with the register in a.
struct ProcedureStep {
    enum class Kind { assign, branch, repeat } kind = Kind::assign;
    std::uint32_t to = 0;    ///< assign: register
    NodeId value = kNoNode;  ///< assign: what; branch, repeat: the condition, looked at before each turn
    std::vector<ProcedureStep> then_steps{}, else_steps{};
};

struct ProcedureText {
    std::string name;
    std::vector<std::uint32_t> arguments;  ///< registers that hold the arguments
    std::uint32_t result = 0;              ///< register
    std::uint32_t n_registers = 0;         ///< all begin at 0
    std::vector<ProcedureStep> steps;
};

/// What a procedure is executed as: linear code over registers.
struct ProcedureCode {
    struct Step {
        enum class Kind : std::uint8_t { compute, constant, table, call, jump, jump_if_zero } kind = Kind::compute;
        Op op = Op::constant;
        std::uint8_t flag = 0;
        std::uint32_t to = 0, a = 0, b = 0, c = 0;  ///< jumps: `to` is the next step; call: b registers listed from `a`
        double number = 0;
        const Table* tabled = nullptr;
        const Callable* called = nullptr;
    };
    std::vector<Step> steps;
    std::vector<std::uint32_t> lists;
    std::vector<std::uint32_t> arguments;  ///< registers that hold them
    std::uint32_t result = 0, n_registers = 0;
};

/// Turns in all loops of one call; beyond, the result is not a number.
inline constexpr std::size_t kMostTurns = 1'000'000;
/// The same in one call and all that it calls.
inline constexpr std::size_t kMostTurnsOfAll = 4'000'000;

/// Translates to linear code. Its derivatives are procedures that carry the derivative of every register along (forward mode;
/// Griewank and Walther, 2008, Evaluating Derivatives, ch. 3), made when asked for, of any order.
CallablePtr make_procedure(const Graph& graph, ProcedureText text);

}  // namespace netloop
