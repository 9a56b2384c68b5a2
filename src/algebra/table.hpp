// Tables of one and two arguments: linear, or smooth by monotone cubics, with their derivatives.
#pragma once

#include <memory>
#include <string>
#include <vector>

namespace netloop {

/// A function given by points. Values are SI. Immutable once made.
/// Smooth tables use the monotone cubic of Fritsch and Butland (1984, SIAM J. Sci. Stat. Comput. 5, 300-304): no overshoot
/// between points, first derivative continuous. In two arguments: the cubic along the second argument, then along the first.
class Table {
public:
    enum class Outside { hold, extend, refuse };

    /// `x` (and `y`, empty for one argument) strictly ascending; `values[i * y.size() + j]` belongs to x[i], y[j].
    /// `name` is for messages. Throws std::invalid_argument with what is wrong with the points.
    Table(std::string name, std::vector<double> x, std::vector<double> y, std::vector<double> values, bool smooth, Outside outside);

    const std::string& name() const { return name_; }
    int n_arguments() const { return y_.empty() ? 1 : 2; }
    bool smooth() const { return smooth_; }
    Outside outside() const { return outside_; }
    const std::vector<double>& knots(int argument) const { return argument == 0 ? x_ : y_; }

    /// The value, or its derivative of orders (dx, dy), each 0 to 3. Beyond the points as `outside` says; `refuse` gives NaN.
    double operator()(double x, double y, int dx, int dy) const;

private:
    double along(const std::vector<double>& knots, const double* values, std::size_t stride, const double* slopes, double at, int order) const;

    std::string name_;
    std::vector<double> x_, y_, values_;
    bool smooth_;
    Outside outside_;
    std::vector<double> slopes_;  ///< smooth: slope at each point along its innermost argument
};

using TablePtr = std::shared_ptr<const Table>;

}  // namespace netloop
