// SPDX-License-Identifier: Apache-2.0
// The passes as a list, and the one loop that runs them: timed, recorded, held to what each form promises, stopped where asked.
#pragma once

#include <memory>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "compile/forms.hpp"
#include "compile/variants.hpp"

namespace netloop {

/// What is compiled, on its way: of the four forms the one that the last pass has left; the others are empty.
struct Compilation {
    enum class Form { flat, system, reduced, solver };

    Diagnostics& diagnostics;
    Form form = Form::flat;
    std::unique_ptr<FlatModel> flat{};
    EquationSystem system{};
    ReducedSystem reduced{};
    SolverForm solver{};
    bool variant = false;  ///< one of several systems that take over from each other
    Impact impact{};       ///< of a variant
    std::vector<PassRecord> record{};

    /// The present form, as `check --show` prints it.
    std::string text() const;
    /// What is broken in it; empty: nothing.
    std::string fault() const;
};

struct Pass {
    std::string_view name;
    std::string_view line;     ///< what it does
    Compilation::Form leaves;  ///< the form behind it
    void (*run)(Compilation&);
    std::string (*result)(const Compilation&);  ///< what it left, for the compile record
};

/// In the order in which they run. A new pass is a row here.
std::span<const Pass> passes();

/// Runs the passes from `first` to `last`, by name, both included. After each its time and result are put into the record, and with NETLOOP_VERIFY=1 in the
/// environment the form is held to what it promises: std::logic_error names the pass that broke it. Throws CompilationStopped when a pass has reported
/// errors. False: the pass `stop_after` was among them, and nothing behind it has run.
bool run_passes(Compilation& c, std::string_view first, std::string_view last, std::string_view stop_after = {});

/// "3 blocks", "1 block".
std::string counted(std::size_t n, const char* one, const char* many);

}  // namespace netloop
