// SPDX-License-Identifier: Apache-2.0
#include "algebra/table.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <stdexcept>

#include "algebra/jet.hpp"

namespace netloop {
namespace {

void check_ascending(const std::vector<double>& knots)
{
    if (knots.size() < 2) throw std::invalid_argument("at least two points are needed");
    for (std::size_t i = 0; i < knots.size(); ++i) {
        if (!std::isfinite(knots[i])) throw std::invalid_argument("a point is not a finite number");
        if (i > 0 && knots[i] <= knots[i - 1]) throw std::invalid_argument("the arguments must be in ascending order, each once");
    }
}

// Fritsch and Butland (1984): a weighted harmonic mean of the neighbouring slopes, zero at a turning point. T carries derivatives
// by further arguments along.
template <typename T>
void monotone_slopes(const std::vector<double>& x, const T* v, T* slope)
{
    std::size_t n = x.size();
    auto secant = [&](std::size_t i) { return (v[i + 1] - v[i]) / T(x[i + 1] - x[i]); };
    for (std::size_t i = 1; i + 1 < n; ++i) {
        T left = secant(i - 1), right = secant(i);
        double h_left = x[i] - x[i - 1], h_right = x[i + 1] - x[i];
        if (lead(left) * lead(right) <= 0) {
            slope[i] = T(0);
        } else {
            double w_left = 2 * h_right + h_left, w_right = h_right + 2 * h_left;
            slope[i] = T(w_left + w_right) / (T(w_left) / left + T(w_right) / right);
        }
    }
    // one-sided at the ends, limited so that the end pieces stay monotone too
    auto end_slope = [](double h0, double h1, const T& s0, const T& s1) {
        T s = (T(2 * h0 + h1) * s0 - T(h0) * s1) / T(h0 + h1);
        if (lead(s) * lead(s0) <= 0) return T(0);
        if (lead(s0) * lead(s1) <= 0 && std::abs(lead(s)) > 3 * std::abs(lead(s0))) return T(3) * s0;
        return s;
    };
    if (n == 2) {
        slope[0] = slope[1] = secant(0);
    } else {
        slope[0] = end_slope(x[1] - x[0], x[2] - x[1], secant(0), secant(1));
        slope[n - 1] = end_slope(x[n - 1] - x[n - 2], x[n - 2] - x[n - 3], secant(n - 2), secant(n - 3));
    }
}

std::size_t interval(const std::vector<double>& x, double at)
{
    auto above = std::upper_bound(x.begin() + 1, x.end() - 1, at);
    return static_cast<std::size_t>(above - x.begin()) - 1;
}

template <typename T>
T cubic(double h, double s, const T& v0, const T& v1, const T& m0, const T& m1, int order)
{
    T d = (v1 - v0) / T(h);
    T c2 = (T(3) * d - T(2) * m0 - m1) / T(h), c3 = (m0 + m1 - T(2) * d) / T(h * h), at(s);
    switch (order) {
        case 0:
            return v0 + at * (m0 + at * (c2 + at * c3));
        case 1:
            return m0 + at * (T(2) * c2 + T(3) * at * c3);
        case 2:
            return T(2) * c2 + T(6) * at * c3;
        case 3:
            return T(6) * c3;
        default:
            return T(0);
    }
}

// Along one argument: `order`-th derivative at `at` of the curve through v over the knots; `slopes` null: straight lines.
template <typename T>
T along(const std::vector<double>& knots, const T* v, const T* slopes, Table::Outside beyond, double at, int order)
{
    double lo = knots.front(), hi = knots.back();
    bool outside = at < lo || at > hi;
    std::size_t last = knots.size() - 1;
    if (outside && beyond == Table::Outside::refuse) return T(std::numeric_limits<double>::quiet_NaN());
    if (outside && beyond == Table::Outside::hold) return order > 0 ? T(0) : at < lo ? v[0] : v[last];
    std::size_t i = interval(knots, at);
    double h = knots[i + 1] - knots[i];
    if (slopes == nullptr) return order == 0 ? v[i] + (v[i + 1] - v[i]) * T((at - knots[i]) / h) : order == 1 ? (v[i + 1] - v[i]) / T(h) : T(0);
    if (outside) {  // extend along the tangent at the end
        double edge = at < lo ? lo : hi;
        const T &m = slopes[at < lo ? 0 : last], &ve = v[at < lo ? 0 : last];
        return order == 0 ? ve + m * T(at - edge) : order == 1 ? m : T(0);
    }
    return cubic(h, at - knots[i], v[i], v[i + 1], slopes[i], slopes[i + 1], order);
}

// The same with slopes found on the way, as a series in the argument: what a further argument needs for its derivatives.
template <typename T>
Jet<T> series_along(const std::vector<double>& knots, const T* v, bool smooth, Table::Outside beyond, double at, int orders)
{
    std::vector<T> slopes(smooth ? knots.size() : 0);
    if (smooth) monotone_slopes(knots, v, slopes.data());
    Jet<T> series;
    double factorial = 1;
    for (int k = 0; k <= orders; ++k) {
        if (k > 1) factorial *= k;
        series.c[static_cast<std::size_t>(k)] = along(knots, v, smooth ? slopes.data() : nullptr, beyond, at, k) / T(factorial);
    }
    return series;
}

constexpr double kFactorial[] = {1, 1, 2, 6};

}  // namespace

Table::Table(std::string name, std::vector<double> x, std::vector<double> y, std::vector<double> values, bool smooth, Outside outside)
    : name_(std::move(name)), x_(std::move(x)), y_(std::move(y)), values_(std::move(values)), smooth_(smooth), outside_(outside)
{
    check_ascending(x_);
    if (!y_.empty()) check_ascending(y_);
    if (values_.size() != x_.size() * std::max<std::size_t>(1, y_.size()))
        throw std::invalid_argument("the number of values does not fit the number of arguments");
    for (double v : values_)
        if (!std::isfinite(v)) throw std::invalid_argument("a value is not a finite number");
    if (!smooth_) return;
    slopes_.resize(values_.size());
    if (y_.empty()) {
        monotone_slopes(x_, values_.data(), slopes_.data());
    } else {
        for (std::size_t i = 0; i < x_.size(); ++i) monotone_slopes(y_, &values_[i * y_.size()], &slopes_[i * y_.size()]);
    }
}

double Table::operator()(double x, double y, int dx, int dy) const
{
    if (std::isnan(x) || std::isnan(y)) return std::numeric_limits<double>::quiet_NaN();
    if (y_.empty()) return along(x_, values_.data(), smooth_ ? slopes_.data() : nullptr, outside_, x, dx);
    if (dx > 3 || dy > 3) return 0;
    std::size_t n = y_.size();
    auto row_at = [&](std::size_t k, int order) { return along(y_, &values_[k * n], smooth_ ? &slopes_[k * n] : nullptr, outside_, y, order); };
    if (!smooth_) {  // only the two rows round x matter
        std::vector<double> row(x_.size(), 0.0);
        std::size_t i = interval(x_, x);
        for (std::size_t k : {i, i + 1, std::size_t{0}, x_.size() - 1}) row[k] = row_at(k, dy);
        return along<double>(x_, row.data(), nullptr, outside_, x, dx);
    }
    if (dy == 0) {
        std::vector<double> column(x_.size()), slopes(x_.size());
        for (std::size_t k = 0; k < x_.size(); ++k) column[k] = row_at(k, 0);
        monotone_slopes(x_, column.data(), slopes.data());
        return along(x_, column.data(), slopes.data(), outside_, x, dx);
    }
    // the slopes along x depend on y themselves: everything along x is done on series in y
    std::vector<Jet<double>> column(x_.size()), slopes(x_.size());
    for (std::size_t k = 0; k < x_.size(); ++k)
        for (int order = 0; order <= dy; ++order) column[k].c[static_cast<std::size_t>(order)] = row_at(k, order) / kFactorial[order];
    monotone_slopes(x_, column.data(), slopes.data());
    return along(x_, column.data(), slopes.data(), outside_, x, dx).c[static_cast<std::size_t>(dy)] * kFactorial[dy];
}

Table3::Table3(std::string name, std::array<std::vector<double>, 3> knots, std::vector<double> values, bool smooth, Table::Outside outside)
    : points_(std::make_shared<Points>(Points{std::move(name), std::move(knots), std::move(values), smooth, outside}))
{
    std::size_t n = 1;
    for (const auto& k : points_->knots) check_ascending(k), n *= k.size();
    if (points_->values.size() != n) throw std::invalid_argument("the number of values does not fit the number of arguments");
    for (double v : points_->values)
        if (!std::isfinite(v)) throw std::invalid_argument("a value is not a finite number");
}

double Table3::evaluate(const double* at, double*) const
{
    const Points& p = *points_;
    for (int k = 0; k < 3; ++k)
        if (std::isnan(at[k])) return std::numeric_limits<double>::quiet_NaN();
    for (int order : orders_)
        if (order > 3) return 0;
    const auto& [x, y, z] = p.knots;
    using Series = Jet<double>;
    std::vector<Jet<Series>> column;
    std::vector<Series> row(y.size());
    for (std::size_t i = 0; i < x.size(); ++i) {
        for (std::size_t j = 0; j < y.size(); ++j) row[j] = series_along(z, &p.values[(i * y.size() + j) * z.size()], p.smooth, p.outside, at[2], orders_[2]);
        column.push_back(series_along(y, row.data(), p.smooth, p.outside, at[1], orders_[1]));
    }
    Jet<Jet<Series>> all = series_along(x, column.data(), p.smooth, p.outside, at[0], orders_[0]);
    auto o = [&](int k) { return static_cast<std::size_t>(orders_[static_cast<std::size_t>(k)]); };
    return all.c[o(0)].c[o(1)].c[o(2)] * kFactorial[o(0)] * kFactorial[o(1)] * kFactorial[o(2)];
}

CallablePtr Table3::derivative(Graph&, std::size_t argument) const
{
    auto made = std::make_shared<Table3>(*this);
    ++made->orders_[argument];
    return made;
}

}  // namespace netloop
