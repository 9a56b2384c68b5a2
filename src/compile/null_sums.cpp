// SPDX-License-Identifier: Apache-2.0
#include "compile/null_sums.hpp"

#include <Eigen/Dense>

#include <algorithm>
#include <array>
#include <cmath>
#include <map>
#include <optional>

namespace netloop {
namespace {

constexpr int kPoints = 3;
constexpr double kZero = 1e-9;  ///< of a scaled row: nothing

using Sample = std::function<double(const Node&, int)>;

// Values at a scattered point. What is one and the same expression is one and the same number; more is not asked for where coefficients cancel.
class Scattered {
public:
    Scattered(const Graph& g, const Sample& sample, int point) : g_(g), sample_(sample), point_(point) {}
    double operator()(NodeId root)
    {
        if (known_.size() < g_.size()) known_.resize(g_.size(), 0), value_.resize(g_.size(), 0.0);
        if (known_[root] != 0) return value_[root];
        for (NodeId id : g_.reachable({root})) {
            if (known_[id] != 0) continue;
            known_[id] = 1;
            value_[id] = compute(id);
        }
        return value_[root];
    }

private:
    double compute(NodeId id) const
    {
        const Node& n = g_[id];
        if (n.op == Op::constant) return g_.value(id);
        if (n.op == Op::pair) return 0;
        if (n_children(n.op) == 0) return sample_(n, point_);
        switch (n.op) {
            case Op::add:
            case Op::sub:
            case Op::mul:
            case Op::div:
            case Op::neg:
            case Op::sin:
            case Op::cos:
            case Op::select:
                if (double v = evaluate_op(n.op, value_[n.a], n_children(n.op) > 1 ? value_[n.b] : 0, n_children(n.op) > 2 ? value_[n.c] : 0); std::isfinite(v))
                    return v;
                break;
            default:
                break;
        }
        return 0.6 + 0.8 * std::fmod(0.6180339887498949 * static_cast<double>(id + 1) + 0.3719 * point_, 1.0);
    }

    const Graph& g_;
    const Sample& sample_;
    int point_;
    std::vector<char> known_;
    std::vector<double> value_;
};

class NullSums {
public:
    NullSums(Graph& g, const std::vector<LeadingRow>& rows, const Sample& sample, const std::function<bool(NodeId)>& fixed) : g_(g), rows_(rows), fixed_(fixed)
    {
        for (int point = 0; point < kPoints; ++point) values_.emplace_back(g, sample, point);
        for (const LeadingRow& row : rows)
            for (const auto& [c, node] : row.entries) column_.try_emplace(c, static_cast<Eigen::Index>(column_.size()));
    }

    bool is_deficient()
    {
        if (rows_.size() > kLargestNullSum) return false;
        Eigen::ColPivHouseholderQR<Eigen::MatrixXd> qr(matrix(0).transpose());
        qr.setThreshold(kZero);
        return qr.rank() < static_cast<Eigen::Index>(rows_.size());
    }

    std::vector<NullSum> run()
    {
        std::vector<NullSum> found;
        auto n = static_cast<Eigen::Index>(rows_.size());
        if (rows_.size() > kLargestNullSum) return found;
        // 1. rows that depend on others, at the first point: the last columns of a factorisation of the transposed matrix
        Eigen::MatrixXd a = matrix(0);
        Eigen::ColPivHouseholderQR<Eigen::MatrixXd> qr(a.transpose());
        qr.setThreshold(kZero);
        Eigen::Index rank = qr.rank();
        if (rank == n) return found;
        std::vector<char> taken(rows_.size(), 0);
        for (Eigen::Index k = rank; k < n; ++k) {
            Eigen::VectorXd share = qr.matrixR().topLeftCorner(rank, rank).triangularView<Eigen::Upper>().solve(qr.matrixR().col(k).head(rank));
            std::vector<std::uint32_t> support{static_cast<std::uint32_t>(qr.colsPermutation().indices()[k])};
            for (Eigen::Index i = 0; i < rank; ++i)
                if (std::abs(share[i]) > kZero) support.push_back(static_cast<std::uint32_t>(qr.colsPermutation().indices()[i]));
            // each equation gives way once
            if (std::any_of(support.begin(), support.end(), [&](std::uint32_t r) { return taken[r] != 0; })) continue;
            std::sort(support.begin(), support.end());
            if (auto sum = express(support)) {
                taken[last_replaced_] = 1;
                found.push_back(std::move(*sum));
            }
        }
        return found;
    }

private:
    double coefficient(NodeId node, int point) { return values_[static_cast<std::size_t>(point)](node); }

    Eigen::MatrixXd matrix(int point)
    {
        Eigen::MatrixXd a = Eigen::MatrixXd::Zero(static_cast<Eigen::Index>(rows_.size()), static_cast<Eigen::Index>(column_.size()));
        for (std::size_t r = 0; r < rows_.size(); ++r) {
            double size = 0;
            for (const auto& [c, node] : rows_[r].entries) {
                double v = coefficient(node, point);
                a(static_cast<Eigen::Index>(r), column_.at(c)) = v;
                size = std::max(size, std::abs(v));
            }
            if (size > 0) a.row(static_cast<Eigen::Index>(r)) /= size;
        }
        return a;
    }

    // Factors for the rows of the support, by elimination on the graph with pivots that are largest in numbers; the row that is differentiated least, the last
    // one written of those, has factor 1.
    std::optional<NullSum> express(const std::vector<std::uint32_t>& support)
    {
        constexpr std::size_t kMost = 40;
        if (support.size() < 2 || support.size() > kMost) return std::nullopt;
        std::uint32_t replaced = support[0];
        for (std::uint32_t r : support)
            if (rows_[r].differentiated <= rows_[replaced].differentiated) replaced = r;
        std::vector<std::uint32_t> others;
        for (std::uint32_t r : support)
            if (r != replaced) others.push_back(r);
        // one equation for each column: sum over rows of factor * coefficient = 0
        std::map<std::uint32_t, std::map<std::uint32_t, NodeId>> equations;
        for (std::uint32_t r : support)
            for (const auto& [c, node] : rows_[r].entries) equations[c][r] = node;
        std::vector<std::map<std::uint32_t, NodeId>> left;
        for (auto& [c, entries] : equations) left.push_back(std::move(entries));
        std::map<std::uint32_t, std::map<std::uint32_t, NodeId>> solved;  // pivot row -> its equation
        for (std::size_t round = 0; round < others.size(); ++round) {
            std::size_t best = left.size();
            std::uint32_t pivot = 0;
            double largest = kZero;
            for (std::size_t e = 0; e < left.size(); ++e) {
                double size = 0;
                for (const auto& [r, node] : left[e]) size = std::max(size, std::abs(coefficient(node, 0)));
                for (const auto& [r, node] : left[e]) {
                    if (r == replaced || solved.count(r)) continue;
                    // few terms first: what is simple stays simple
                    double good = std::abs(coefficient(node, 0)) / std::max(size, 1e-300) / static_cast<double>(left[e].size());
                    if (good > largest) largest = good, best = e, pivot = r;
                }
            }
            if (best == left.size()) return std::nullopt;
            std::map<std::uint32_t, NodeId> equation = std::move(left[best]);
            left.erase(left.begin() + static_cast<std::ptrdiff_t>(best));
            NodeId by = equation.at(pivot);
            for (auto& other : left) {
                auto it = other.find(pivot);
                if (it == other.end()) continue;
                NodeId ratio = quotient(it->second, by);
                other.erase(it);
                for (const auto& [r, node] : equation) {
                    if (r == pivot) continue;
                    NodeId product = g_.mul(ratio, node);
                    auto [place, fresh] = other.try_emplace(r, kNoNode);
                    place->second = fresh ? g_.neg(product) : g_.sub(place->second, product);
                    if (is_zero(place->second)) other.erase(place);
                }
            }
            solved[pivot] = std::move(equation);
        }
        std::map<std::uint32_t, NodeId> factor{{replaced, g_.constant(1)}};
        // backwards: each equation holds its pivot, rows solved after it, and the one that is replaced
        for (std::size_t round = 0; round < others.size(); ++round)
            for (auto& [pivot, equation] : solved) {
                if (factor.count(pivot)) continue;
                bool ready = std::all_of(equation.begin(), equation.end(), [&, p = pivot](const auto& e) { return e.first == p || factor.count(e.first); });
                if (!ready) continue;
                NodeId sum = g_.constant(0);
                for (const auto& [r, node] : equation)
                    if (r != pivot) sum = g_.add(sum, g_.mul(node, factor.at(r)));
                factor[pivot] = plain_number(g_.neg(quotient(sum, equation.at(pivot))));
            }
        if (factor.size() != support.size()) return std::nullopt;
        return checked(replaced, factor);
    }

    NodeId quotient(NodeId a, NodeId b)
    {
        if (a == b) return g_.constant(1);
        if (g_[a].op == Op::neg && g_[a].a == b) return g_.constant(-1);
        if (g_[b].op == Op::neg && g_[b].a == a) return g_.constant(-1);
        return plain_number(g_.div(a, b));
    }
    // A factor that has one and the same simple value at all points is that number.
    NodeId plain_number(NodeId node)
    {
        if (g_.is_constant(node)) return node;
        std::array<double, kPoints> v{};
        for (int k = 0; k < kPoints; ++k) v[static_cast<std::size_t>(k)] = coefficient(node, k);
        for (int k = 1; k <= 12; ++k) {
            double whole = std::round(v[0] * k);
            auto same = [&](double x) { return std::abs(x * k - whole) <= 1e-9 * std::max(1.0, std::abs(whole)); };
            if (std::all_of(v.begin(), v.end(), same)) return g_.constant(whole / k);
        }
        return node;
    }
    bool is_zero(NodeId node)
    {
        if (g_.is_constant(node)) return g_.value(node) == 0;
        return plain_number(node) != node && g_.value(plain_number(node)) == 0;
    }

    // The factors must stand still and cancel all coefficients at every point.
    std::optional<NullSum> checked(std::uint32_t replaced, const std::map<std::uint32_t, NodeId>& factor)
    {
        NullSum sum;
        sum.equation = rows_[replaced].equation;
        std::map<std::uint32_t, char> columns;
        for (const auto& [r, node] : factor) {
            if (!fixed_(node)) return std::nullopt;
            sum.terms.push_back({rows_[r].equation, rows_[r].differentiated - rows_[replaced].differentiated, node});
            for (const auto& [c, entry] : rows_[r].entries) columns[c] = 1;
        }
        for (int point = 0; point < kPoints; ++point) {
            std::map<std::uint32_t, std::pair<double, double>> total;  // value and size
            for (const auto& [r, node] : factor)
                for (const auto& [c, entry] : rows_[r].entries) {
                    double v = coefficient(node, point) * coefficient(entry, point);
                    total[c].first += v;
                    total[c].second = std::max(total[c].second, std::abs(v));
                }
            for (const auto& [c, v] : total)
                if (std::abs(v.first) > 1e-8 * v.second) return std::nullopt;
        }
        for (const auto& [c, one] : columns) sum.columns.push_back(c);
        last_replaced_ = replaced;
        return sum;
    }

    Graph& g_;
    const std::vector<LeadingRow>& rows_;
    const std::function<bool(NodeId)>& fixed_;
    std::vector<Scattered> values_;
    std::map<std::uint32_t, Eigen::Index> column_;
    std::uint32_t last_replaced_ = 0;
};

}  // namespace

bool is_deficient(Graph& graph, const std::vector<LeadingRow>& rows, const std::function<double(const Node&, int)>& sample)
{
    return NullSums(graph, rows, sample, [](NodeId) { return false; }).is_deficient();
}

std::vector<NullSum> find_null_sums(Graph& graph, const std::vector<LeadingRow>& rows, const std::function<double(const Node&, int)>& sample,
                                    const std::function<bool(NodeId)>& fixed)
{
    return NullSums(graph, rows, sample, fixed).run();
}

}  // namespace netloop
