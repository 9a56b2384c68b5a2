// SPDX-License-Identifier: Apache-2.0
#include "analyse/descriptor.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>
#include <numbers>
#include <tuple>

#include "analyse/complex_lu.hpp"
#include "netloop/error.hpp"
#include "solve/explain.hpp"

namespace netloop {
namespace {

using Complex = std::complex<double>;

// Numbers as they come, then by columns; several in one place are added.
class Entries {
public:
    void add(std::size_t row, std::size_t column, double value)
    {
        if (value != 0) list_.emplace_back(static_cast<std::uint32_t>(column), static_cast<std::uint32_t>(row), value);
    }
    SparseMatrix matrix(std::size_t rows, std::size_t columns)
    {
        std::stable_sort(list_.begin(), list_.end(),
                         [](const auto& x, const auto& y) { return std::pair(std::get<0>(x), std::get<1>(x)) < std::pair(std::get<0>(y), std::get<1>(y)); });
        SparseMatrix m;
        m.rows = rows, m.columns = columns;
        for (const auto& [column, row, value] : list_) {
            if (!m.value.empty() && m.column.back() == column && m.row.back() == row) {
                m.value.back() += value;
                continue;
            }
            m.column.push_back(column), m.row.push_back(row), m.value.push_back(value);
        }
        return m;
    }

private:
    std::vector<std::tuple<std::uint32_t, std::uint32_t, double>> list_;
};

class Describing {
public:
    Describing(Point& p, const std::vector<ActingInput>& inputs, const std::vector<SeenOutput>& outputs, bool cut)
        : p_(p), inputs_(inputs), outputs_(outputs), cut_(cut), carried_(inputs.size()), rate_of_(inputs.size())
    {
    }

    DescriptorModel made()
    {
        const std::size_t n = p_.model().n();
        for (std::uint32_t i = 0; i < n; ++i) model_.unknowns.push_back(told_member(p_, i));
        model_.n_states = p_.n();
        n_rows_ = n;
        for (const Point::Entry& e : p_.entries()) {
            e_.add(e.row, e.column, e.by_rate);
            a_.add(e.row, e.column, -e.by_z);
        }
        for (std::size_t k = 0; k < inputs_.size(); ++k) {
            model_.inputs.push_back(inputs_[k].told);
            find_slopes(k);
        }
        for (std::size_t k = 0; k < inputs_.size(); ++k) act(k);
        for (std::size_t k = 0; k < inputs_.size(); ++k)
            if (is_cut(k)) cut_off(k);
        for (const SeenOutput& o : outputs_) see(o);
        const std::size_t all = model_.unknowns.size();
        model_.e = e_.matrix(all, all), model_.a = a_.matrix(all, all), model_.b = b_.matrix(all, inputs_.size());
        model_.c = c_.matrix(outputs_.size(), all), model_.d = d_.matrix(outputs_.size(), inputs_.size());
        return std::move(model_);
    }

private:
    static constexpr std::size_t kNone = static_cast<std::size_t>(-1);

    std::optional<ParameterId> by(std::size_t k, int order) const
    {
        return order == 0 ? std::optional(inputs_[k].value) : order == 1 ? inputs_[k].rate : inputs_[k].bend;
    }
    bool is_cut(std::size_t k) const { return cut_ && inputs_[k].source.has_value(); }

    std::size_t new_unknown(const std::string& name, const LinearModel::Signal& like)
    {
        LinearModel::Signal s = like;
        s.name = name;
        model_.unknowns.push_back(std::move(s));
        return model_.unknowns.size() - 1;
    }

    // An input whose rates enter, or that takes the place of what gave the signal, is an unknown of its own.
    void find_slopes(std::size_t k)
    {
        slopes_.emplace_back();
        bool rates = false;
        for (int order = 0; order < 3; ++order) {
            std::vector<double> slope = by(k, order) ? p_.residuals_by_parameter(*by(k, order)) : std::vector<double>{};
            auto moves = [](double v) { return v != 0; };
            rates = rates || (order > 0 && std::any_of(slope.begin(), slope.end(), moves));
            slopes_.back().push_back(std::move(slope));
        }
        auto reads_rates = [&](std::size_t column) {
            return (by(k, 1) && p_.output_by_parameter_alone(column, *by(k, 1)) != 0) || (by(k, 2) && p_.output_by_parameter_alone(column, *by(k, 2)) != 0);
        };
        for (const SeenOutput& o : outputs_) rates = rates || reads_rates(o.column);
        for (const ActingInput& u : inputs_) rates = rates || (u.source && reads_rates(*u.source));
        carried_[k] = rates || is_cut(k) ? new_unknown("what acts at " + inputs_[k].told.name, inputs_[k].told) : kNone;
        rate_of_[k] = kNone;
        if (!rates) return;
        rate_of_[k] = new_unknown("rate of what acts at " + inputs_[k].told.name, inputs_[k].told);
        LinearModel::Signal& rate = model_.unknowns.back();
        for (std::string* unit : {&rate.unit, &rate.display}) *unit += unit->empty() || *unit == "1" ? "" : "/s";
        for (std::string* unit : {&rate.unit, &rate.display})
            if (unit->empty() || *unit == "1") *unit = "s^-1";
        rate.at = 0;
    }

    void act(std::size_t k)
    {
        const auto& slope = slopes_[k];
        auto put = [](Entries& to, std::size_t column, const std::vector<double>& values, double sign) {
            for (std::size_t r = 0; r < values.size(); ++r) to.add(r, column, sign * values[r]);
        };
        if (carried_[k] == kNone) {
            put(b_, k, slope[0], -1);
            return;
        }
        put(a_, carried_[k], slope[0], -1);
        if (rate_of_[k] != kNone) {
            put(a_, rate_of_[k], slope[1], -1);
            put(e_, rate_of_[k], slope[2], 1);
            std::size_t row = n_rows_++;  // its rate is its rate
            e_.add(row, carried_[k], 1);
            a_.add(row, rate_of_[k], 1);
        }
        if (is_cut(k)) return;
        std::size_t row = n_rows_++;
        a_.add(row, carried_[k], -1);
        b_.add(row, k, 1);
    }

    // Slopes of a column: by unknowns to `row` of A and E, with a sign, by inputs to A or B; or to C and D.
    void column_into(std::size_t column, double sign, std::size_t row, bool seen)
    {
        for (const Point::Entry& e : p_.output_entries(column)) {
            (seen ? c_ : a_).add(row, e.column, sign * e.by_z);
            if (!seen) e_.add(row, e.column, -sign * e.by_rate);
        }
        for (std::size_t k = 0; k < inputs_.size(); ++k) {
            double direct = p_.output_by_parameter_alone(column, inputs_[k].value);
            if (carried_[k] == kNone)
                (seen ? d_ : b_).add(row, k, sign * direct);
            else
                (seen ? c_ : a_).add(row, carried_[k], sign * direct);
            if (rate_of_[k] == kNone) continue;
            if (by(k, 1)) (seen ? c_ : a_).add(row, rate_of_[k], sign * p_.output_by_parameter_alone(column, *by(k, 1)));
            if (by(k, 2) && !seen) e_.add(row, rate_of_[k], -sign * p_.output_by_parameter_alone(column, *by(k, 2)));
        }
    }
    bool reads_rates(std::size_t column)
    {
        std::vector<Point::Entry> list = p_.output_entries(column);
        if (std::any_of(list.begin(), list.end(), [](const Point::Entry& e) { return e.by_rate != 0; })) return true;
        for (std::size_t k = 0; k < inputs_.size(); ++k)
            if (rate_of_[k] != kNone && by(k, 2) && p_.output_by_parameter_alone(column, *by(k, 2)) != 0) return true;
        return false;
    }

    // What acts is what is given, less what would have come: 0 = u - source - acting, with the source from the quantity behind what is added.
    void cut_off(std::size_t k)
    {
        std::size_t row = n_rows_++;
        a_.add(row, carried_[k], -1);
        b_.add(row, k, 1);
        column_into(*inputs_[k].source, -1, row, false);
        if (inputs_[k].less) a_.add(row, carried_[k], 1);
    }

    void see(const SeenOutput& o)
    {
        const std::size_t row = model_.outputs.size();
        model_.outputs.push_back(o.told);
        const bool less = o.source_of && inputs_[*o.source_of].less;
        if (!reads_rates(o.column)) {
            column_into(o.column, 1, row, true);
        } else {
            std::size_t unknown = new_unknown("seen: " + o.told.name, o.told), equation = n_rows_++;
            a_.add(equation, unknown, -1);
            column_into(o.column, 1, equation, false);
            c_.add(row, unknown, 1);
        }
        if (!less) return;
        if (carried_[*o.source_of] != kNone)
            c_.add(row, carried_[*o.source_of], -1);
        else
            d_.add(row, *o.source_of, -1);
    }

    Point& p_;
    const std::vector<ActingInput>& inputs_;
    const std::vector<SeenOutput>& outputs_;
    bool cut_;
    DescriptorModel model_;
    std::vector<std::vector<std::vector<double>>> slopes_;  ///< per input and order, of F
    std::vector<std::size_t> carried_, rate_of_;            ///< unknowns of inputs
    std::size_t n_rows_ = 0;
    Entries e_, a_, b_, c_, d_;
};

std::vector<Eigen::Triplet<Complex>> entries_at(const DescriptorModel& m, Complex s)
{
    std::vector<Eigen::Triplet<Complex>> list;
    auto add = [&](const SparseMatrix& matrix, Complex factor) {
        for (std::size_t k = 0; k < matrix.value.size(); ++k)
            list.emplace_back(static_cast<int>(matrix.row[k]), static_cast<int>(matrix.column[k]), factor * matrix.value[k]);
    };
    add(m.e, s);
    add(m.a, -1);
    return list;
}

}  // namespace

LinearModel::Signal told_member(Point& p, std::uint32_t member)
{
    const CompiledModel& m = p.model();
    Variable v = m.form.z[member].variable;
    Unit unit = m.form.flat().quantities[v.quantity].unit;
    for (std::uint32_t k = 0; k < v.order; ++k) unit = unit.rate();
    LinearModel::Signal s;
    s.name = p.name(member);
    s.unit = si_unit(unit.dimension).text;
    s.display = unit.difference().text;
    s.scale = unit.scale;
    s.at = p.value(member);
    return s;
}

DescriptorModel describe_linear(Point& point, const std::vector<ActingInput>& inputs, const std::vector<SeenOutput>& outputs, bool cut)
{
    return Describing(point, inputs, outputs, cut).made();
}

DescriptorModel DescriptorModel::displayed() const
{
    DescriptorModel m = *this;
    if (in_display_units) return m;
    m.in_display_units = true;
    using Signals = std::vector<LinearModel::Signal>;
    // equations have no unit of their own: rows of A, B and E stay as they are
    auto scale = [](SparseMatrix& matrix, const Signals* rows, const Signals& columns) {
        for (std::size_t k = 0; k < matrix.value.size(); ++k)
            matrix.value[k] *= columns[matrix.column[k]].scale / (rows != nullptr ? (*rows)[matrix.row[k]].scale : 1);
    };
    for (SparseMatrix* square : {&m.e, &m.a}) scale(*square, nullptr, unknowns);
    scale(m.b, nullptr, inputs);
    scale(m.c, &outputs, unknowns);
    scale(m.d, &outputs, inputs);
    for (Signals* list : {&m.unknowns, &m.inputs, &m.outputs})
        for (LinearModel::Signal& s : *list) s.unit = s.display;
    return m;
}

std::vector<Complex> DescriptorModel::response(std::size_t input, std::size_t output, const std::vector<double>& hertz) const
{
    if (input >= inputs.size() || output >= outputs.size())
        throw UsageError(fmt::format("a linear model with {} inputs and {} outputs has no input {} with output {} (counted from 0)", inputs.size(),
                                     outputs.size(), input, output));
    Eigen::VectorXcd right = Eigen::VectorXcd::Zero(static_cast<Eigen::Index>(unknowns.size()));
    for (std::size_t k = 0; k < b.value.size(); ++k)
        if (b.column[k] == input) right(b.row[k]) = b.value[k];
    double direct = 0;
    for (std::size_t k = 0; k < d.value.size(); ++k)
        if (d.column[k] == input && d.row[k] == output) direct = d.value[k];
    std::vector<Complex> list;
    ComplexLU lu;
    for (double f : hertz) {
        Complex y(std::nan(""), 0);
        if (lu.factor(right.size(), entries_at(*this, {0, 2 * std::numbers::pi * f}))) {
            Eigen::VectorXcd z = lu.solve(right);
            y = direct;
            for (std::size_t k = 0; k < c.value.size(); ++k)
                if (c.row[k] == output) y += c.value[k] * z(c.column[k]);
        }
        list.push_back(y);
    }
    return list;
}

}  // namespace netloop
