// SPDX-License-Identifier: Apache-2.0
// A machine that goes on in fixed steps with bounded work: all that a step computes, as programs over one memory, and the few tables that say in which order.
// What is executed here (fixed_machine.hpp) and what is written as C (c_machine.hpp) is the same plan: the numbers are the same to the last bit.
#pragma once

#include <memory>
#include <string>
#include <utility>
#include <vector>

#include "evaluate/compiled_model.hpp"
#include "solve/start.hpp"

namespace netloop {

enum class FixedMethod {
    euler,           ///< explicit; what is no state is solved behind each step
    rk4,             ///< the classical method of order 4 (Kutta, 1901)
    linear_euler,    ///< one turn of Newton's iteration on the implicit Euler step, from the values before it (Deuflhard and Bornemann, 2002, sec. 6.4)
    implicit_euler,  ///< the same with several turns
    rosenbrock  ///< of order 2, L-stable, stiffly accurate: gamma = 1 - 1/sqrt(2), alpha = 1 (Hairer and Wanner, 1996, Solving ODEs II, sec. IV.7 and VI.4)
};
/// "euler", "rk4", "linear-euler", "implicit-euler", "rosenbrock".
const char* method_name(FixedMethod method);

struct FixedPlanRequest {
    FixedMethod method = FixedMethod::linear_euler;
    double step = 1e-3;    ///< s
    int turns = 0;         ///< of Newton's iteration; 0: 1 of linear_euler, 3 of implicit_euler, 2 for what is no state in the other methods
    bool correct = false;  ///< what is no state is solved anew behind an event; always so with euler, rk4 and rosenbrock
    bool rest = false;     ///< what is no state can be solved from the states, whatever the method
    bool slopes = false;   ///< with what rates, outputs and conditions owe to states and inputs
    std::vector<ParameterId> inputs;
    std::vector<std::uint32_t> outputs;  ///< into SolverForm::outputs
};

struct FixedPlan {
    static constexpr std::uint32_t kNone = 0xffffffffu;
    static constexpr double kLeastPivot = 1e-14;

    std::shared_ptr<const CompiledModel> model;
    FixedPlanRequest request;
    double start_time = 0;
    bool correct = false;
    int turns = 1;

    std::uint32_t size = 0;                                   ///< of the memory
    std::vector<std::pair<std::uint32_t, double>> constants;  ///< literals, and what depends on the step alone

    // --- where it begins
    std::vector<double> z, rates, modes, memories;
    std::vector<double> params;  ///< settled
    std::vector<char> given;     ///< per param: from outside
    std::vector<ParameterValues> parameters;
    Program prologue;

    // --- steps
    std::vector<char> is_state;  ///< per member of z
    /// A solution of a linear system with what belongs to it: the residuals where the machine stands, the matrix, its elimination.
    struct Solve {
        Program program;
        std::vector<std::uint32_t> result;  ///< per unknown: where its correction lies
        std::vector<std::uint32_t> pivots;
        std::vector<std::uint32_t> sizes;  ///< of each pivot: where the largest entry of its row lies; a pivot below kLeastPivot of it is counted as bad
        std::size_t n_operations = 0;
    };
    Solve turn;    ///< implicit methods: what z loses (of rosenbrock: what its first stage adds)
    Solve second;  ///< of rosenbrock: its second stage, with the elimination of the first
    Solve rest;    ///< what is no state: what rates of states and other members of z lose
    Solve again;   ///< the same by the elimination that `rest` has left (with FixedPlanRequest::slopes)
    bool solves_rest = false;

    // --- what happens at the ends of steps
    struct Condition {
        std::uint32_t number = 0, value = 0;  ///< of the mode; place
        netloop::Condition::Kind kind = netloop::Condition::Kind::less;
    };
    Program conditions;
    std::vector<Condition> condition;
    Program guards;
    struct Block {
        FlatBlock::Kind kind = FlatBlock::Kind::when;
        std::uint32_t guard = kNone;
        std::uint32_t sequence = 0, stage = 0, target = 0;
        Program program;
        struct Setting {
            std::uint32_t value = kNone, when = kNone;
            std::uint32_t memory = kNone, state = kNone;
            double sign = 1;
            /// Of what is a sum of states: its present value, and its factors. The nearest states are taken, each in the larger of its usual size and its
            /// value.
            std::uint32_t target = kNone;
            struct Part {
                std::uint32_t state = 0;
                double factor = 0, usual = 1;
            };
            std::vector<Part> parts;
        };
        std::vector<Setting> settings;
        struct Alert {
            std::uint32_t when = kNone;
            FlatAlert::Action action = FlatAlert::Action::warn;
            std::string text;
        };
        std::vector<Alert> alerts;
        bool reads_solved = false;
        std::uint32_t number = 0;  ///< of the model
    };
    std::vector<Block> blocks;
    struct Every {
        std::uint32_t block = 0, period = 0, first = 0;
    };
    Program periods;
    std::vector<Every> every;
    struct Sequence {
        std::uint32_t stage = 0, since = 0;                   ///< memories
        std::vector<std::vector<std::uint32_t>> transitions;  ///< blocks per stage
        std::vector<std::uint32_t> entries;                   ///< blocks
    };
    std::vector<Sequence> sequences;
    std::vector<std::uint32_t> whens;
    Program previous;
    std::vector<std::pair<std::uint32_t, std::uint32_t>> previous_of;  ///< memory and place
    Program starts;
    std::vector<std::pair<std::uint32_t, std::uint32_t>> start_of;
    struct Delay {
        std::uint32_t memory = 0, source = 0, time = 0;
        std::uint32_t room = 0;  ///< values that are kept of its past
    };
    Program delays;
    std::vector<Delay> delay;

    // --- the start, for other params than those it was settled with
    Solve start;
    std::vector<std::uint32_t> start_rates;  ///< the states whose rates are its unknowns behind z

    Program outputs;
    std::vector<std::uint32_t> output;  ///< places

    /// How rates, outputs and conditions move with states and inputs where the machine stands, by the equations' own derivatives.
    struct Slopes {
        struct Entry {
            std::uint32_t of = 0, by = 0;  ///< by: the place of a quantity, a rate or a param
            std::uint32_t place = 0;       ///< of the derivative
        };
        Program program;                         ///< all derivatives, and the elimination of what is no state
        Program substitution;                    ///< from `side` to `result`
        std::vector<std::uint32_t> side;         ///< per equation: where what moves it is put
        std::vector<std::uint32_t> result;       ///< per member of z: what it, or the rate of a state, loses by that
        std::vector<Entry> params;               ///< of params that follow from inputs, in an order in which they can be worked out
        std::vector<Entry> rows;                 ///< of equations, by states and params
        std::vector<Entry> outputs, conditions;  ///< by number
        std::shared_ptr<const Graph> graph;      ///< with the derivatives of tables and functions
    };
    Slopes slopes;
    /// Tables and functions that its programs use.
    Callables callables() const { return slopes.graph != nullptr ? Callables{slopes.graph->tables(), slopes.graph->callables()} : model->callables(); }

    /// Operations of a step without events, and of its dearest moment: all blocks at once.
    std::size_t n_step_operations() const, n_moment_operations() const;
};

/// What the machine in fixed steps cannot do of this model: in words, with part and place where there is one; empty: nothing. `evaluation` stands at the start.
std::vector<std::string> hindrances(const Evaluation& evaluation, const SourceSet& sources);

/// dF/dz and dF/dz' along the pattern, at some point of a run of the same system.
struct SampledJacobian {
    std::vector<double> by_z, by_rate;
};

/// `samples`: of the run, so that the order of elimination is one that serves all of it; may be empty. `evaluation` and `begun`: the start as it was settled,
/// before anything happened at it; `taken`: the rows that it was solved from. Throws NumericFailure for what hindrances() tells, and where an elimination has
/// no order.
std::shared_ptr<const FixedPlan> make_fixed_plan(Evaluation& evaluation, const State& begun, const std::vector<TakenRow>& taken,
                                                 const FixedPlanRequest& request, const SourceSet& sources, const std::vector<SampledJacobian>& samples = {});

}  // namespace netloop
