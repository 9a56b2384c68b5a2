#include "algebra/table.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <stdexcept>

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

// Fritsch and Butland (1984): a weighted harmonic mean of the neighbouring slopes, zero at a turning point.
void monotone_slopes(const std::vector<double>& x, const double* v, double* slope)
{
    std::size_t n = x.size();
    auto secant = [&](std::size_t i) { return (v[i + 1] - v[i]) / (x[i + 1] - x[i]); };
    for (std::size_t i = 1; i + 1 < n; ++i) {
        double left = secant(i - 1), right = secant(i);
        double h_left = x[i] - x[i - 1], h_right = x[i + 1] - x[i];
        if (left * right <= 0) {
            slope[i] = 0;
        } else {
            double w_left = 2 * h_right + h_left, w_right = h_right + 2 * h_left;
            slope[i] = (w_left + w_right) / (w_left / left + w_right / right);
        }
    }
    // one-sided at the ends, limited so that the end pieces stay monotone too
    auto end_slope = [](double h0, double h1, double s0, double s1) {
        double s = ((2 * h0 + h1) * s0 - h0 * s1) / (h0 + h1);
        if (s * s0 <= 0) return 0.0;
        if (s0 * s1 <= 0 && std::abs(s) > 3 * std::abs(s0)) return 3 * s0;
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

double cubic(double h, double s, double v0, double v1, double m0, double m1, int order)
{
    double d = (v1 - v0) / h;
    double c2 = (3 * d - 2 * m0 - m1) / h, c3 = (m0 + m1 - 2 * d) / (h * h);
    switch (order) {
        case 0:
            return v0 + s * (m0 + s * (c2 + s * c3));
        case 1:
            return m0 + s * (2 * c2 + 3 * s * c3);
        case 2:
            return 2 * c2 + 6 * s * c3;
        case 3:
            return 6 * c3;
        default:
            return 0;
    }
}

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

double Table::along(const std::vector<double>& knots, const double* v, std::size_t stride, const double* slopes, double at, int order) const
{
    double lo = knots.front(), hi = knots.back();
    bool outside = at < lo || at > hi;
    if (outside && outside_ == Outside::refuse) return std::numeric_limits<double>::quiet_NaN();
    if (outside && outside_ == Outside::hold) {
        if (order > 0) return 0;
        return at < lo ? v[0] : v[(knots.size() - 1) * stride];
    }
    std::size_t i = interval(knots, at);
    double h = knots[i + 1] - knots[i];
    double v0 = v[i * stride], v1 = v[(i + 1) * stride];
    if (slopes == nullptr) return order == 0 ? v0 + (v1 - v0) * ((at - knots[i]) / h) : order == 1 ? (v1 - v0) / h : 0;
    if (outside) {  // extend along the tangent at the end
        double edge = at < lo ? lo : hi, m = slopes[at < lo ? 0 : knots.size() - 1], ve = at < lo ? v[0] : v[(knots.size() - 1) * stride];
        return order == 0 ? ve + m * (at - edge) : order == 1 ? m : 0;
    }
    return cubic(h, at - knots[i], v0, v1, slopes[i], slopes[i + 1], order);
}

double Table::operator()(double x, double y, int dx, int dy) const
{
    if (std::isnan(x) || std::isnan(y)) return std::numeric_limits<double>::quiet_NaN();
    if (y_.empty()) return along(x_, values_.data(), 1, smooth_ ? slopes_.data() : nullptr, x, dx);
    std::size_t n = y_.size();
    if (!smooth_) {  // only the two rows round x matter
        std::vector<double> row(x_.size(), 0.0);
        std::size_t i = interval(x_, x);
        for (std::size_t k : {i, i + 1}) row[k] = along(y_, &values_[k * n], 1, nullptr, y, dy);
        if (x < x_.front()) row[0] = along(y_, values_.data(), 1, nullptr, y, dy);
        return along(x_, row.data(), 1, nullptr, x, dx);
    }
    std::vector<double> column(x_.size()), slopes(x_.size());
    for (std::size_t k = 0; k < x_.size(); ++k) column[k] = along(y_, &values_[k * n], 1, &slopes_[k * n], y, dy);
    if (dy == 0) {
        monotone_slopes(x_, column.data(), slopes.data());
        return along(x_, column.data(), 1, slopes.data(), x, dx);
    }
    // The slopes along x depend on y themselves; their derivative is taken by a central difference of small stated width.
    double width = 1e-6 * (y_.back() - y_.front());
    double above = (*this)(x, y + width, dx, dy - 1), below = (*this)(x, y - width, dx, dy - 1);
    return (above - below) / (2 * width);
}

}  // namespace netloop
