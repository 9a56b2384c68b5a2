// SPDX-License-Identifier: Apache-2.0
#include "analyse/linearise.hpp"

#include <fmt/format.h>

#include <cmath>

#include "analyse/dense.hpp"
#include "analyse/descriptor.hpp"
#include "netloop/error.hpp"

namespace netloop {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;

// What was computed with everything at rest is zero only up to rounding.
void clear(MatrixXd& m, double against)
{
    m = m.unaryExpr([against](double v) { return std::abs(v) <= against ? 0.0 : v; });
}

}  // namespace

LinearModel linearise(Point& p, const std::vector<ActingInput>& inputs, const std::vector<SeenOutput>& outputs, bool cut)
{
    LinearModel model;
    for (std::uint32_t s : p.states()) model.states.push_back(told_member(p, s));
    for (const ActingInput& u : inputs) model.inputs.push_back(u.told);
    auto n = static_cast<Index>(p.n()), n_in = static_cast<Index>(inputs.size());
    MatrixXd a = p.a();
    MatrixXd b[3];
    for (MatrixXd& m : b) m = MatrixXd::Zero(n, n_in);
    for (Index k = 0; k < n_in; ++k) {
        const ActingInput& u = inputs[static_cast<std::size_t>(k)];
        const std::optional<ParameterId> by[3] = {u.value, u.rate, u.bend};
        for (int order = 0; order < 3; ++order) {
            if (!by[order]) continue;
            std::vector<double> y = p.by_parameter(*by[order]);
            for (Index i = 0; i < n; ++i) b[order](i, k) = y[p.states()[static_cast<std::size_t>(i)]];
        }
    }
    // outputs, and what gives the inputs that are cut
    struct Rows {
        MatrixXd c, d[3];
    };
    auto rows_of = [&](const std::vector<std::size_t>& columns) {
        Rows r;
        auto n_out = static_cast<Index>(columns.size());
        r.c = MatrixXd::Zero(n_out, n);
        for (MatrixXd& m : r.d) m = MatrixXd::Zero(n_out, n_in);
        for (Index o = 0; o < n_out; ++o) {
            std::size_t column = columns[static_cast<std::size_t>(o)];
            r.c.row(o) = p.output_by_states(column);
            for (Index k = 0; k < n_in; ++k) {
                const ActingInput& u = inputs[static_cast<std::size_t>(k)];
                const std::optional<ParameterId> by[3] = {u.value, u.rate, u.bend};
                for (int order = 0; order < 3; ++order)
                    if (by[order]) r.d[order](o, k) = p.output_by_parameter(column, *by[order]);
            }
        }
        return r;
    };
    std::vector<std::size_t> columns, source_columns;
    std::vector<Index> with_source;  // inputs
    for (Index k = 0; k < n_in; ++k)
        if (inputs[static_cast<std::size_t>(k)].source) with_source.push_back(k), source_columns.push_back(*inputs[static_cast<std::size_t>(k)].source);
    std::vector<std::pair<Index, Index>> sources_seen;  // output, row among the sources
    for (const SeenOutput& o : outputs) {
        model.outputs.push_back(o.told);
        columns.push_back(o.column);
        if (!o.source_of) continue;
        for (std::size_t s = 0; s < with_source.size(); ++s)
            if (with_source[s] == static_cast<Index>(*o.source_of)) sources_seen.emplace_back(static_cast<Index>(columns.size() - 1), static_cast<Index>(s));
    }
    Rows seen = rows_of(columns), source = rows_of(source_columns);
    for (std::size_t s = 0; s < with_source.size(); ++s)
        if (inputs[static_cast<std::size_t>(with_source[s])].less) source.d[0](static_cast<Index>(s), with_source[s]) -= 1;
    for (const auto& [output, row] : sources_seen) {
        seen.c.row(output) = source.c.row(row);
        for (int order = 0; order < 3; ++order) seen.d[order].row(output) = source.d[order].row(row);
    }
    for (MatrixXd& d : source.d) {
        // columns differ by their units: each by its own size
        for (Index k = 0; k < n_in && d.rows() > 0; ++k) {
            MatrixXd column = d.col(k);
            clear(column, 1e-14 * std::max(1.0, column.cwiseAbs().maxCoeff()));
            d.col(k) = column;
        }
    }
    if (cut && !with_source.empty()) {
        auto m = static_cast<Index>(with_source.size());
        MatrixXd inner(m, m), bc(n, m), dc(seen.c.rows(), m);
        for (Index k = 0; k < m; ++k) {
            inner.col(k) = source.d[0].col(with_source[static_cast<std::size_t>(k)]);
            bc.col(k) = b[0].col(with_source[static_cast<std::size_t>(k)]);
            dc.col(k) = seen.d[0].col(with_source[static_cast<std::size_t>(k)]);
        }
        bool loops = source.c.cwiseAbs().sum() > 0 || inner.cwiseAbs().sum() > 0;
        bool rates = b[1].cwiseAbs().sum() + b[2].cwiseAbs().sum() + seen.d[1].cwiseAbs().sum() + seen.d[2].cwiseAbs().sum() + source.d[1].cwiseAbs().sum() > 0;
        if (loops && rates)
            throw UsageError("a loop in which rates of the signal enter cannot be cut there",
                             "cut it at another signal: behind a part that has a state of its own");
        Eigen::FullPivLU<MatrixXd> lu(MatrixXd::Identity(m, m) + inner);
        if (!lu.isInvertible()) throw UsageError("the loop cannot be cut there: what comes back is, at once, all of what goes out", "cut it at another signal");
        MatrixXd k = lu.inverse();  // source = k (C x + inner v + D of the others)
        MatrixXd b0 = b[0], d0 = seen.d[0], own = source.d[0];
        MatrixXd others = own;  // by the inputs that have no source
        for (Index s : with_source) others.col(s).setZero();
        a -= bc * k * source.c;
        MatrixXd c = seen.c - dc * k * source.c;
        b[0] = b0 - bc * k * others;
        seen.d[0] = d0 - dc * k * others;
        for (Index s = 0; s < m; ++s) {
            b[0].col(with_source[static_cast<std::size_t>(s)]) = bc * k.col(s);
            seen.d[0].col(with_source[static_cast<std::size_t>(s)]) = dc * k.col(s);
        }
        seen.c = c;
        // the sources themselves, seen as outputs: y = k (C x + inner v + ...)
        for (const auto& [output, row] : sources_seen) {
            seen.c.row(output) = k.row(row) * source.c;
            seen.d[0].row(output) = k.row(row) * others;
            for (Index s = 0; s < m; ++s) seen.d[0](output, with_source[static_cast<std::size_t>(s)]) = (k * inner)(row, s);
        }
    }
    // x' = A x + B u + B1 u' + B2 u'': with x - B2 u' - (B1 + A B2) u in the place of x no rate is left in it
    bool rates = b[1].cwiseAbs().sum() + b[2].cwiseAbs().sum() > 0;
    MatrixXd shift = b[1] + a * b[2];
    model.a = listed(a);
    model.b = listed(b[0] + a * shift);
    model.c = listed(seen.c);
    model.d = listed(seen.d[0] + seen.c * shift);
    MatrixXd e = seen.d[1] + seen.c * b[2], e2 = seen.d[2];
    if (e.cwiseAbs().sum() > 0 || e2.cwiseAbs().sum() > 0) model.e = listed(e);
    if (e2.cwiseAbs().sum() > 0) model.e2 = listed(e2);
    if (rates || !model.e.values.empty())
        model.notes.push_back("rates of inputs enter through hidden constraints: y has E u'" + std::string(model.e2.values.empty() ? "" : " + E2 u''") +
                              (rates ? ", and states stand for what is left of them when their share of the input is taken off" : ""));
    return model;
}

}  // namespace netloop
