// SPDX-License-Identifier: Apache-2.0
#include "analyse/point.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <optional>

#include "analyse/complex_lu.hpp"
#include "solve/explain.hpp"
#include "solve/failure.hpp"

namespace netloop {
namespace {

std::vector<NodeId> roots_of_outputs(const CompiledModel& m)
{
    std::vector<NodeId> roots;
    for (const OutputColumn& o : m.form.outputs) roots.push_back(o.value);
    return roots;
}

std::vector<ParameterId> settled_params(const CompiledModel& m)
{
    std::vector<ParameterId> list;
    for (const ParameterValues& level : m.parameters) list.insert(list.end(), level.parameters.begin(), level.parameters.end());
    return list;
}

std::vector<NodeId> roots_of_params(const CompiledModel& m, const std::vector<ParameterId>& params)
{
    std::vector<NodeId> roots;
    for (ParameterId p : params) roots.push_back(m.form.flat().parameters[p].value);
    return roots;
}

}  // namespace

Sensitivities::Sensitivities(std::shared_ptr<const CompiledModel> of)
    : model(std::move(of)),
      graph(std::make_shared<Graph>(model->form.flat().graph)),
      equations(graph, model->form.residuals),
      outputs(graph, roots_of_outputs(*model)),
      params(graph, roots_of_params(*model, settled_params(*model))),
      settled(settled_params(*model))
{
    for (const ZEntry& z : model->form.z) names.push_back(variable_name(*model, z.variable));
    for (NodeId residual : model->form.residuals) {
        may_turn.emplace_back();
        chosen_by.emplace_back();
        for (NodeId id : graph->reachable({residual})) {
            const Node& n = (*graph)[id];
            if (n.op == Op::abs || n.op == Op::min || n.op == Op::max) may_turn.back().push_back(id);
            if (n.op == Op::mode) chosen_by.back().push_back(n.a);
        }
    }
}

Point::Point(Sensitivities& of, Evaluation& evaluation, const State& s) : of_(of), e_(evaluation), s_(s)
{
    const CompiledModel& m = model();
    e_.at(s.time, s.z.data(), s.rates.data());
    e_.jacobian(by_z_, by_rate_);
    of_.equations.at([this](const Node& n) { return leaf(n); });
    take_means_at_corners();
    const auto& quantities = m.form.flat().quantities;
    moves_.assign(m.n(), 0);
    for (std::uint32_t i = 0; i < m.n(); ++i) {
        if (!has_rate(i) || quantities[m.form.z[i].variable.quantity].found) continue;
        states_.push_back(i);
        moves_[i] = 1;
    }
    lu_ = factored(false);
}

double Point::leaf(const Node& n) const
{
    switch (n.op) {
        case Op::time:
            return s_.time;
        case Op::unknown:
            return s_.z[n.a];
        case Op::rate:
            return s_.rates[n.a];
        case Op::parameter:
            return e_.parameter(n.a);
        case Op::mode:
            return e_.mode(n.a);
        case Op::memory:
            return e_.memory(n.a);
        default:
            return 0;
    }
}

std::unique_ptr<SparseLU> Point::factored(bool transposed, const double* shift) const
{
    const SparsePattern& all = model().pattern;
    struct Entry {
        std::uint32_t column;
        std::int64_t row;
        double value;
    };
    std::vector<Entry> entries;
    for (std::uint32_t c = 0; c < all.n_columns; ++c)
        for (auto k = all.starts[c]; k < all.starts[c + 1]; ++k) {
            auto at = static_cast<std::size_t>(k);
            double value = shift != nullptr && moves_[c] != 0 ? by_z_[at] + *shift * by_rate_[at] : has_rate(c) ? by_rate_[at] : by_z_[at];
            if (value == 0) continue;
            if (transposed)
                entries.push_back({static_cast<std::uint32_t>(all.rows[at]), static_cast<std::int64_t>(c), value});
            else
                entries.push_back({c, all.rows[at], value});
        }
    if (transposed) std::stable_sort(entries.begin(), entries.end(), [](const Entry& a, const Entry& b) { return a.column < b.column; });
    SparsePattern pattern;
    pattern.n_columns = all.n_columns;
    std::vector<double> values;
    std::size_t at = 0;
    for (std::uint32_t c = 0; c < all.n_columns; ++c) {
        for (; at < entries.size() && entries[at].column == c; ++at) {
            pattern.rows.push_back(entries[at].row);
            values.push_back(entries[at].value);
        }
        pattern.starts.push_back(static_cast<std::int64_t>(pattern.rows.size()));
    }
    auto lu = std::make_unique<SparseLU>(std::move(pattern));
    if (all.n_columns > 0 && !lu->factor(values)) {
        std::size_t lost = transposed ? model().n() : lu->lost();
        throw NumericFailure("run-failed", fmt::format("at {:.9g} s the equations do not settle {}: there is no linear model", s_.time,
                                                       lost < model().n() ? "'" + variable_name(model(), model().form.z[lost].variable) + "'" : "the rates"));
    }
    return lu;
}

void Point::solve(std::vector<double>& y)
{
    if (!y.empty()) lu_->solve(y);
}

void Point::solve_transposed(std::vector<double>& y)
{
    if (y.empty()) return;
    if (transposed_ == nullptr) transposed_ = factored(true);
    transposed_->solve(y);
}

void Point::solve_complex(std::vector<Complex>& y, bool transposed)
{
    std::vector<double> re(y.size()), im(y.size());
    for (std::size_t i = 0; i < y.size(); ++i) re[i] = y[i].real(), im[i] = y[i].imag();
    for (std::vector<double>* part : {&re, &im}) transposed ? solve_transposed(*part) : solve(*part);
    for (std::size_t i = 0; i < y.size(); ++i) y[i] = {re[i], im[i]};
}

// The Jacobian is the solver's, which at a corner takes one side; the sweeps take the mean of both.
void Point::take_means_at_corners()
{
    constexpr double kMostWork = 2e8;  // leaves of the equations that hold corners
    const CompiledModel& m = model();
    std::vector<NodeId> corners = of_.equations.corners();  // ascending
    if (corners.empty()) return;
    const SparsePattern& p = m.pattern;
    std::vector<std::vector<std::size_t>> entries(m.n());
    std::vector<std::uint32_t> column(p.rows.size());
    for (std::uint32_t c = 0; c < p.n_columns; ++c)
        for (auto k = static_cast<std::size_t>(p.starts[c]); k < static_cast<std::size_t>(p.starts[c + 1]); ++k) {
            entries[static_cast<std::size_t>(p.rows[k])].push_back(k);
            column[k] = c;
        }
    std::vector<std::pair<std::size_t, double>> by_leaf;
    std::vector<double> by_z(m.n(), 0.0), by_rate(m.n(), 0.0);
    double work = 0;
    for (std::uint32_t r = 0; r < m.form.residuals.size() && work < kMostWork; ++r) {
        auto holds = [&](NodeId id) { return std::binary_search(corners.begin(), corners.end(), id); };
        if (std::none_of(of_.may_turn[r].begin(), of_.may_turn[r].end(), holds)) continue;
        of_.equations.gradient_of(r, by_leaf);
        work += static_cast<double>(by_leaf.size());
        for (std::size_t k : entries[r]) by_z[column[k]] = by_rate[column[k]] = 0;
        for (const auto& [l, slope] : by_leaf) {
            const Node& n = of_.equations.leaf(l);
            if (n.op == Op::unknown) by_z[n.a] = slope;
            if (n.op == Op::rate) by_rate[n.a] = slope;
        }
        for (std::size_t k : entries[r]) {
            if (m.by_z[k] != kNoNode) by_z_[k] = by_z[column[k]];
            if (m.by_rate[k] != kNoNode) by_rate_[k] = by_rate[column[k]];
        }
    }
}

std::vector<std::uint32_t> Point::at_corners()
{
    constexpr double kZero = 1e-12;
    constexpr int kMostLooks = 100;
    const CompiledModel& m = model();
    std::vector<std::uint32_t> list;
    std::vector<NodeId> corners = of_.equations.corners();  // ascending
    // conditions at their zero, by the sizes of what is compared
    std::vector<char> at_zero(m.form.conditions.size(), 0);
    std::optional<NodeValues> values;
    for (std::uint32_t i = 0; i < m.form.conditions.size(); ++i) {
        const Condition& c = m.form.conditions[i];
        if (c.is_clocked() || c.held || c.kind == Condition::Kind::whole) continue;
        const Graph& g = m.form.flat().graph;
        if (!values) values.emplace(g, [this](const Node& n) { return leaf(n); });
        const Node& n = g[c.value];
        double size = n.op == Op::sub ? std::max(std::abs((*values)(n.a)), std::abs((*values)(n.b))) : 0;
        at_zero[i] = std::abs((*values)(c.value)) <= kZero * size ? 1 : 0;
    }
    int looks = 0;
    for (std::uint32_t r = 0; r < m.form.residuals.size(); ++r) {
        bool holds =
            std::any_of(of_.may_turn[r].begin(), of_.may_turn[r].end(), [&](NodeId id) { return std::binary_search(corners.begin(), corners.end(), id); });
        bool chosen = std::any_of(of_.chosen_by[r].begin(), of_.chosen_by[r].end(), [&](std::uint32_t i) { return at_zero[i] != 0; });
        if (chosen || (holds && looks++ < kMostLooks && of_.equations.has_corner(r))) list.push_back(r);
    }
    return list;
}

Eigen::MatrixXd Point::a()
{
    const SparsePattern& p = model().pattern;
    auto n_states = static_cast<Eigen::Index>(n());
    Eigen::MatrixXd a(n_states, n_states);
    std::vector<double> y;
    for (Eigen::Index j = 0; j < n_states; ++j) {
        y.assign(model().n(), 0.0);
        std::uint32_t c = states_[static_cast<std::size_t>(j)];
        for (auto k = p.starts[c]; k < p.starts[c + 1]; ++k)
            y[static_cast<std::size_t>(p.rows[static_cast<std::size_t>(k)])] = -by_z_[static_cast<std::size_t>(k)];
        solve(y);
        for (Eigen::Index i = 0; i < n_states; ++i) a(i, j) = y[states_[static_cast<std::size_t>(i)]];
    }
    return a;
}

// -D x by row of F, D the columns of states in one half of the Jacobian; or -x in the places of states.
std::vector<double> Point::spread(const Eigen::Ref<const Eigen::VectorXd>& x, const std::vector<double>* half) const
{
    const SparsePattern& p = model().pattern;
    std::vector<double> y(model().n());
    for (std::size_t j = 0; j < n(); ++j) {
        double value = x(static_cast<Eigen::Index>(j));
        if (half == nullptr) {
            y[states_[j]] = -value;
            continue;
        }
        for (auto k = p.starts[states_[j]]; k < p.starts[states_[j] + 1]; ++k)
            y[static_cast<std::size_t>(p.rows[static_cast<std::size_t>(k)])] -= (*half)[static_cast<std::size_t>(k)] * value;
    }
    return y;
}

// D^T y by state, or y in the places of states.
Eigen::VectorXd Point::gathered(const std::vector<double>& y, const std::vector<double>* half) const
{
    const SparsePattern& p = model().pattern;
    Eigen::VectorXd x(static_cast<Eigen::Index>(n()));
    for (std::size_t j = 0; j < n(); ++j) {
        double value = half == nullptr ? y[states_[j]] : 0;
        if (half != nullptr)
            for (auto k = p.starts[states_[j]]; k < p.starts[states_[j] + 1]; ++k)
                value += (*half)[static_cast<std::size_t>(k)] * y[static_cast<std::size_t>(p.rows[static_cast<std::size_t>(k)])];
        x(static_cast<Eigen::Index>(j)) = value;
    }
    return x;
}

Eigen::VectorXd Point::times_a(const Eigen::Ref<const Eigen::VectorXd>& x, bool transposed)
{
    std::vector<double> y = spread(x, transposed ? nullptr : &by_z_);
    transposed ? solve_transposed(y) : solve(y);
    return gathered(y, transposed ? &by_z_ : nullptr);
}

// (A - shift)^-1 = -S P^-1 dF/dx' with P = dF/dx + shift dF/dx' in the columns of states, S what picks them.
Eigen::VectorXd Point::times_shifted_inverse(double shift, const Eigen::Ref<const Eigen::VectorXd>& x, bool transposed)
{
    if (shift != shift_) shifted_.reset(), shifted_transposed_.reset();
    shift_ = shift;
    std::unique_ptr<SparseLU>& lu = transposed ? shifted_transposed_ : shifted_;
    if (lu == nullptr) lu = factored(transposed, &shift);
    std::vector<double> y = spread(x, transposed ? nullptr : &by_rate_);
    lu->solve(y);
    return gathered(y, transposed ? &by_rate_ : nullptr);
}

// The same for a complex shift: one elimination serves both ways.
struct Point::ComplexShifted {
    Complex shift;
    ComplexLU lu;
};

Eigen::VectorXcd Point::times_shifted_inverse(Complex shift, const Eigen::Ref<const Eigen::VectorXd>& x, bool transposed)
{
    if (complex_shifted_ == nullptr || complex_shifted_->shift != shift) {
        std::vector<Eigen::Triplet<Complex>> list;
        for (const Entry& e : entries()) {
            Complex value = moves_[e.column] != 0 ? e.by_z + shift * e.by_rate : has_rate(e.column) ? e.by_rate : e.by_z;
            if (value != 0.0) list.emplace_back(static_cast<int>(e.row), static_cast<int>(e.column), value);
        }
        auto made = std::make_shared<ComplexShifted>();
        made->shift = shift;
        if (!made->lu.factor(static_cast<Eigen::Index>(model().n()), list))
            throw NumericFailure("run-failed", fmt::format("at {:.9g} s an eigenvalue lies at {:.6g} {:+.6g} i itself: it cannot be looked from there", s_.time,
                                                           shift.real(), shift.imag()));
        complex_shifted_ = std::move(made);
    }
    std::vector<double> right = spread(x, transposed ? nullptr : &by_rate_);
    Eigen::VectorXcd y = Eigen::Map<const Eigen::VectorXd>(right.data(), static_cast<Eigen::Index>(right.size())).cast<Complex>();
    y = transposed ? complex_shifted_->lu.solve_transposed(y) : complex_shifted_->lu.solve(y);
    std::vector<double> re(right.size()), im(right.size());
    for (std::size_t i = 0; i < right.size(); ++i) re[i] = y(static_cast<Eigen::Index>(i)).real(), im[i] = y(static_cast<Eigen::Index>(i)).imag();
    const std::vector<double>* half = transposed ? &by_rate_ : nullptr;
    return gathered(re, half).cast<Complex>() + Complex(0, 1) * gathered(im, half).cast<Complex>();
}

std::vector<Point::Entry> Point::entries() const
{
    const SparsePattern& p = model().pattern;
    std::vector<Entry> list;
    list.reserve(p.rows.size());
    for (std::uint32_t c = 0; c < p.n_columns; ++c)
        for (auto k = static_cast<std::size_t>(p.starts[c]); k < static_cast<std::size_t>(p.starts[c + 1]); ++k)
            list.push_back({static_cast<std::uint32_t>(p.rows[k]), c, by_z_[k], has_rate(c) ? by_rate_[k] : 0});
    return list;
}

std::vector<double> Point::residuals_by_parameter(ParameterId p)
{
    std::vector<double> list;
    for (const Complex& slope : residuals_by(p)) list.push_back(slope.real());
    return list;
}

// What one param does to all that follow from it, level after level.
const std::vector<Point::Complex>& Point::moved_by(ParameterId p)
{
    if (mover_ == p && !moves_by_param_.empty()) return moves_by_param_;
    const CompiledModel& m = model();
    const FlatModel& flat = m.form.flat();
    look_at_params();
    mover_ = p;
    moves_by_param_.assign(flat.parameters.size(), 0.0);
    moves_by_param_[p] = 1;
    Tape& tape = of_.params;
    std::vector<Complex> direction(tape.n_leaves()), slopes;
    std::size_t begin = 0;
    for (const ParameterValues& level : m.parameters) {
        for (std::size_t l = 0; l < direction.size(); ++l)
            if (tape.leaf(l).op == Op::parameter) direction[l] = moves_by_param_[tape.leaf(l).a];
        tape.along(direction, slopes);
        for (std::size_t k = begin; k < begin + level.parameters.size(); ++k) {
            ParameterId q = of_.settled[k];
            if (q != p && !e_.is_given(q) && !flat.graph.is_constant(flat.parameters[q].value)) moves_by_param_[q] = slopes[k];
        }
        begin += level.parameters.size();
    }
    return moves_by_param_;
}

void Point::look_at_params()
{
    if (params_looked_at_) return;
    of_.params.at([this](const Node& n) { return leaf(n); });
    params_looked_at_ = true;
}

// The residuals' slopes by a param and all that follows from it.
std::vector<Point::Complex> Point::residuals_by(ParameterId p)
{
    const std::vector<Complex>& moved = moved_by(p);
    Tape& tape = of_.equations;
    std::vector<Complex> direction(tape.n_leaves()), slopes;
    for (std::size_t l = 0; l < direction.size(); ++l)
        if (tape.leaf(l).op == Op::parameter) direction[l] = moved[tape.leaf(l).a];
    tape.along(direction, slopes);
    return slopes;
}

std::vector<double> Point::by_parameter(ParameterId p)
{
    std::vector<Complex> slopes = residuals_by(p);
    std::vector<double> y(model().n());
    for (std::size_t i = 0; i < y.size(); ++i) y[i] = -slopes[i].real();
    solve(y);
    return y;
}

void Point::look_at_outputs()
{
    if (outputs_looked_at_) return;
    of_.outputs.at([this](const Node& n) { return leaf(n); });
    outputs_looked_at_ = true;
}

double Point::output(std::size_t i)
{
    look_at_outputs();
    return of_.outputs.value(i);
}

void Point::output_gradient(std::size_t output)
{
    if (graded_ == output) return;
    look_at_outputs();
    std::vector<Complex> weights(model().form.outputs.size());
    weights[output] = 1;
    of_.outputs.gradient(weights, output_by_leaf_);
    graded_ = output;
}

std::vector<Point::Entry> Point::output_entries(std::size_t output)
{
    output_gradient(output);
    std::vector<Entry> list;
    for (std::size_t l = 0; l < of_.outputs.n_leaves(); ++l) {
        const Node& n = of_.outputs.leaf(l);
        double slope = output_by_leaf_[l].real();
        if (slope == 0) continue;
        if (n.op == Op::unknown) list.push_back({0, n.a, slope, 0});
        if (n.op == Op::rate && has_rate(n.a)) list.push_back({0, n.a, 0, slope});
    }
    return list;
}

double Point::output_by_parameter_alone(std::size_t output, ParameterId p)
{
    output_gradient(output);
    const std::vector<Complex>& moved = moved_by(p);
    double slope = 0;
    for (std::size_t l = 0; l < of_.outputs.n_leaves(); ++l)
        if (const Node& leaf = of_.outputs.leaf(l); leaf.op == Op::parameter) slope += (output_by_leaf_[l] * moved[leaf.a]).real();
    return slope;
}

void Point::take_output(std::size_t output)
{
    if (taken_ == output) return;
    output_gradient(output);
    Tape& tape = of_.outputs;
    output_adjoint_.assign(model().n(), 0.0);
    for (std::size_t l = 0; l < tape.n_leaves(); ++l) {
        const Node& n = tape.leaf(l);
        if ((n.op == Op::unknown && !has_rate(n.a)) || (n.op == Op::rate && has_rate(n.a))) output_adjoint_[n.a] = output_by_leaf_[l].real();
    }
    solve_transposed(output_adjoint_);
    taken_ = output;
}

Eigen::RowVectorXd Point::output_by_states(std::size_t output)
{
    take_output(output);
    const SparsePattern& p = model().pattern;
    Eigen::RowVectorXd row = Eigen::RowVectorXd::Zero(static_cast<Eigen::Index>(n()));
    std::vector<std::uint32_t> place(model().n(), kNoNode);
    for (std::uint32_t i = 0; i < n(); ++i) place[states_[i]] = i;
    const Tape& tape = of_.outputs;
    for (std::size_t l = 0; l < tape.n_leaves(); ++l)
        if (const Node& leaf = tape.leaf(l); leaf.op == Op::unknown && place[leaf.a] != kNoNode) row(place[leaf.a]) += output_by_leaf_[l].real();
    for (std::uint32_t j = 0; j < n(); ++j) {
        std::uint32_t c = states_[j];
        for (auto k = p.starts[c]; k < p.starts[c + 1]; ++k)
            row(j) -= output_adjoint_[static_cast<std::size_t>(p.rows[static_cast<std::size_t>(k)])] * by_z_[static_cast<std::size_t>(k)];
    }
    return row;
}

double Point::output_by_parameter(std::size_t output, ParameterId p)
{
    take_output(output);
    std::vector<Complex> slopes = residuals_by(p);
    double slope = 0;
    for (std::size_t l = 0; l < of_.outputs.n_leaves(); ++l)
        if (const Node& leaf = of_.outputs.leaf(l); leaf.op == Op::parameter) slope += (output_by_leaf_[l] * moves_by_param_[leaf.a]).real();
    for (std::size_t i = 0; i < slopes.size(); ++i) slope -= output_adjoint_[i] * slopes[i].real();
    return slope;
}

std::vector<Point::Complex> Point::eigenvalue_by_parameters(const Eigen::VectorXcd& right, const Eigen::VectorXcd& left)
{
    const CompiledModel& m = model();
    const SparsePattern& p = m.pattern;
    Tape& tape = of_.equations;
    std::size_t n_all = m.n();
    // the whole vector: what the unknowns do while the states move along `right`
    std::vector<Complex> moved(n_all), unknowns(n_all), weights(n_all);
    for (std::size_t j = 0; j < n(); ++j) moved[states_[j]] = right(static_cast<Eigen::Index>(j)), weights[states_[j]] = left(static_cast<Eigen::Index>(j));
    for (std::uint32_t c : states_)
        for (auto k = p.starts[c]; k < p.starts[c + 1]; ++k)
            unknowns[static_cast<std::size_t>(p.rows[static_cast<std::size_t>(k)])] -= by_z_[static_cast<std::size_t>(k)] * moved[c];
    solve_complex(unknowns, false);
    solve_complex(weights, true);
    std::vector<Complex> direction(tape.n_leaves()), gradient, first;
    for (std::size_t l = 0; l < direction.size(); ++l) {
        const Node& n = tape.leaf(l);
        if (n.op == Op::unknown) direction[l] = has_rate(n.a) ? moved[n.a] : unknowns[n.a];
        if (n.op == Op::rate && has_rate(n.a)) direction[l] = unknowns[n.a];
    }
    tape.gradient_along(direction, weights, gradient);
    // what the unknowns themselves do when a param moves: by one more solution for all params together
    std::vector<Complex> follow(n_all);
    for (std::size_t l = 0; l < direction.size(); ++l) {
        const Node& n = tape.leaf(l);
        if ((n.op == Op::unknown && !has_rate(n.a)) || (n.op == Op::rate && has_rate(n.a))) follow[n.a] += gradient[l];
    }
    solve_complex(follow, true);
    tape.gradient(follow, first);
    Complex scale = 0;
    for (std::size_t j = 0; j < n(); ++j) scale += left(static_cast<Eigen::Index>(j)) * right(static_cast<Eigen::Index>(j));
    std::vector<Complex> by_param(m.form.flat().parameters.size());
    for (std::size_t l = 0; l < direction.size(); ++l)
        if (const Node& n = tape.leaf(l); n.op == Op::parameter) by_param[n.a] += -(gradient[l] - first[l]) / scale;
    // params that follow from others hand it on, last level first
    Tape& params = of_.params;
    look_at_params();
    std::vector<Complex> by_leaf;
    std::size_t end = of_.settled.size();
    for (auto level = m.parameters.rbegin(); level != m.parameters.rend(); ++level) {
        std::size_t begin = end - level->parameters.size();
        std::vector<Complex> handed(of_.settled.size());
        bool any = false;
        for (std::size_t k = begin; k < end; ++k) {
            ParameterId q = of_.settled[k];
            if (e_.is_given(q) || m.form.flat().graph.is_constant(m.form.flat().parameters[q].value)) continue;
            handed[k] = by_param[q];
            any = any || handed[k] != 0.0;
        }
        end = begin;
        if (!any) continue;
        params.gradient(handed, by_leaf);
        for (std::size_t l = 0; l < params.n_leaves(); ++l)
            if (const Node& n = params.leaf(l); n.op == Op::parameter) by_param[n.a] += by_leaf[l];
    }
    return by_param;
}

}  // namespace netloop
