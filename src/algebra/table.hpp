// SPDX-License-Identifier: Apache-2.0
// Tables of one, two and three arguments: linear, or smooth by monotone cubics, with their derivatives.
#pragma once

#include <array>
#include <memory>
#include <string>
#include <vector>

#include "algebra/callable.hpp"

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

    const std::vector<double>& values() const { return values_; }
    /// Of a smooth one: the slope at each point along its innermost argument.
    const std::vector<double>& slopes() const { return slopes_; }

    /// The value, or its derivative of orders (dx, dy), each 0 to 3. Beyond the points as `outside` says; `refuse` gives NaN.
    double operator()(double x, double y, int dx, int dy) const;

private:
    std::string name_;
    std::vector<double> x_, y_, values_;
    bool smooth_;
    Outside outside_;
    std::vector<double> slopes_;  ///< smooth: slope at each point along its innermost argument
};

using TablePtr = std::shared_ptr<const Table>;

/// A table of three arguments: along the third, then the second, then the first, with exact derivatives of orders 0 to 3 in each.
class Table3 : public Callable {
public:
    /// values[(i * ny + j) * nz + k] belongs to knots[0][i], knots[1][j], knots[2][k]. Throws std::invalid_argument.
    Table3(std::string name, std::array<std::vector<double>, 3> knots, std::vector<double> values, bool smooth, Table::Outside outside);

    const std::string& name() const override { return points_->name; }
    std::size_t n_arguments() const override { return 3; }
    double evaluate(const double* at, double* scratch) const override;
    CallablePtr derivative(Graph& graph, std::size_t argument) const override;
    bool smooth() const override { return points_->smooth; }

private:
    struct Points {
        std::string name;
        std::array<std::vector<double>, 3> knots;
        std::vector<double> values;
        bool smooth = false;
        Table::Outside outside = Table::Outside::hold;
    };
    std::shared_ptr<const Points> points_;
    std::array<int, 3> orders_{};  ///< of the derivative that this one is
};

}  // namespace netloop
