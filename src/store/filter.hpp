// SPDX-License-Identifier: Apache-2.0
// Conditions on rows of a study, as a user writes them: "peak < 210 bar and pump is p90".
#pragma once

#include <memory>
#include <span>
#include <string>
#include <vector>

#include "base/diagnostics.hpp"
#include "language/syntax.hpp"
#include "netloop/store.hpp"

namespace netloop {

/// Names are columns of the study; beside them `run`, `seconds`, `steps` and `failed`. A word stands for a level where a column has levels. Numbers carry
/// units where their columns do. What has no value makes no comparison true.
class RowFilter {
public:
    /// Throws UsageError with what is wrong and where.
    RowFilter(const std::string& text, const StudyRecord& study);
    ~RowFilter();
    bool holds(const StudyRow& row) const;

private:
    struct Term {
        enum class Op {
            number,
            column,
            add,
            subtract,
            multiply,
            divide,
            negate,
            less,
            at_most,
            greater,
            at_least,
            equal,
            unequal,
            both,
            either,
            no
        } op = Op::number;
        double number = 0;
        std::size_t column = 0;
        int a = -1, b = -1;
    };
    struct Typed;
    Typed term(const Expr& e);
    Typed column(const Path& path);
    Typed compared(const Expr& e);
    Typed chained(const Expr& e);
    Typed checked_level(const Typed& column, const Expr& word);
    [[noreturn]] void refuse(const Expr& e, const std::string& what, const std::string& mend = {}) const;
    int add(Term t);

    std::string text_;
    const StudyRecord& study_;
    SourceSet sources_;
    SyntaxArena arena_;
    std::vector<Term> terms_;
    mutable std::vector<double> values_;
};

/// The number of a column by its name; -1 run, -2 seconds, -3 steps, -4 failed. Throws UsageError with the nearest name.
int column_of(const StudyRecord& study, const std::string& name);

}  // namespace netloop
