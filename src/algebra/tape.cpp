// SPDX-License-Identifier: Apache-2.0
#include "algebra/tape.hpp"

#include <algorithm>
#include <cmath>
#include <functional>

#include "algebra/differentiate.hpp"

namespace netloop {

Tape::Tape(std::shared_ptr<Graph> graph, const std::vector<NodeId>& roots) : graph_(std::move(graph))
{
    std::vector<std::uint32_t> place(graph_->size(), kNoNode);
    for (NodeId id : graph_->reachable(roots)) {
        const Node n = (*graph_)[id];
        if (n.op == Op::pair) continue;  // has no value of its own
        place[id] = static_cast<std::uint32_t>(steps_.size());
        Step s;
        s.node = id;
        s.first = static_cast<std::uint32_t>(children_.size());
        s.second = static_cast<std::uint32_t>(bends_.size());
        if (n.op == Op::call) {
            for (NodeId argument : graph_->arguments(id)) children_.push_back(place[argument]);
        } else if (n.op != Op::constant && n_children(n.op) > 0) {
            for (int k = first_child(n.op); k < end_of_children(n.op); ++k)
                if (NodeId child = k == 0 ? n.a : k == 1 ? n.b : n.c; child != kNoNode) children_.push_back(place[child]);
        } else if (n.op != Op::constant) {
            leaves_.push_back({id, place[id]});
        }
        s.count = static_cast<std::uint32_t>(children_.size()) - s.first;
        bends_.resize(bends_.size() + s.count * s.count);
        steps_.push_back(s);
    }
    for (NodeId root : roots) roots_.push_back(place[root]);
    slopes_.resize(children_.size());
    value_.resize(steps_.size());
    tangent_.resize(steps_.size());
    adjoint_.resize(steps_.size());
    adjoint_tangent_.resize(steps_.size());
}

double Tape::call(std::uint32_t callable, const Step& s)
{
    const Callable& f = graph_->callable(callable);
    arguments_.clear();
    for (std::uint32_t k = 0; k < s.count; ++k) arguments_.push_back(value_[children_[s.first + k]]);
    scratch_.resize(f.n_scratch());
    return f.evaluate(arguments_.data(), scratch_.data());
}

void Tape::at(const std::function<double(const Node&)>& value)
{
    bent_ = false;
    for (std::size_t i = 0; i < steps_.size(); ++i) {
        const Step& s = steps_[i];
        const Node n = (*graph_)[s.node];
        auto child = [&](std::uint32_t k) { return k < s.count ? value_[children_[s.first + k]] : 0.0; };
        if (n.op == Op::constant)
            value_[i] = graph_->value(s.node);
        else if (n.op == Op::call)
            value_[i] = call(n.a, s);
        else if (s.count == 0)
            value_[i] = value(n);
        else if (n.op == Op::lookup)
            value_[i] = graph_->table(n.a)(child(0), child(1), n.flag / 16, n.flag % 16);
        else
            value_[i] = evaluate_op(n.op, child(0), child(1), child(2));
        if (s.count > 0) slopes_of(s);
    }
}

std::vector<NodeId> Tape::corners() const
{
    std::vector<NodeId> list;
    for (const Step& s : steps_)
        if (is_corner(s)) list.push_back(s.node);
    return list;
}

bool Tape::is_corner(const Step& s) const
{
    constexpr double kEqual = 1e-12;
    Op op = (*graph_)[s.node].op;
    if (op != Op::abs && op != Op::min && op != Op::max) return false;
    double a = value_[children_[s.first]], b = op == Op::abs ? 0 : value_[children_[s.first + 1]];
    return std::abs(a - b) <= kEqual * std::max(std::abs(a), std::abs(b)) || a == b;
}

bool Tape::has_corner(std::size_t root)
{
    const std::vector<std::uint32_t>& below = sweep_below(root);
    return std::any_of(below.begin(), below.end(), [&](std::uint32_t i) { return adjoint_[i] != 0.0 && is_corner(steps_[i]); });
}

// As partial() in differentiate.cpp says, in numbers.
void Tape::slopes_of(const Step& s)
{
    const Node n = (*graph_)[s.node];
    double a = value_[children_[s.first]], b = s.count > 1 ? value_[children_[s.first + 1]] : 0;
    double f = value_[static_cast<std::size_t>(&s - steps_.data())];
    double* to = slopes_.data() + s.first;
    auto far = [](double x) { return std::max(x, kSingularOffset); };
    switch (n.op) {
        case Op::add:
            to[0] = to[1] = 1;
            break;
        case Op::sub:
            to[0] = 1, to[1] = -1;
            break;
        case Op::mul:
            to[0] = b, to[1] = a;
            break;
        case Op::div:
            to[0] = 1 / b, to[1] = -f / b;
            break;
        case Op::neg:
            to[0] = -1;
            break;
        case Op::pow: {
            double base = std::abs(a) < kSingularOffset && b < 1 ? kSingularOffset : a;
            to[0] = b * std::pow(base, b - 1);
            to[1] = f * std::log(far(a));
            break;
        }
        case Op::sqrt:
            to[0] = 0.5 / std::sqrt(far(a));
            break;
        case Op::exp:
            to[0] = f;
            break;
        case Op::log:
            to[0] = 1 / far(a);
            break;
        case Op::sin:
            to[0] = std::cos(a);
            break;
        case Op::cos:
            to[0] = -std::sin(a);
            break;
        case Op::tan:
            to[0] = 1 + f * f;
            break;
        case Op::asin:
            to[0] = 1 / std::sqrt(far(1 - a * a));
            break;
        case Op::acos:
            to[0] = -1 / std::sqrt(far(1 - a * a));
            break;
        case Op::atan:
            to[0] = 1 / (1 + a * a);
            break;
        case Op::sinh:
            to[0] = std::cosh(a);
            break;
        case Op::cosh:
            to[0] = std::sinh(a);
            break;
        case Op::tanh:
            to[0] = 1 - f * f;
            break;
        // AtCorner::mean
        case Op::abs:
            to[0] = (a > 0) - (a < 0);
            break;
        case Op::atan2: {
            double square = far(a * a + b * b);
            to[0] = b / square, to[1] = -a / square;
            break;
        }
        case Op::min:
            to[0] = b < a ? 0 : a < b ? 1 : 0.5, to[1] = 1 - to[0];
            break;
        case Op::max:
            to[0] = a < b ? 0 : b < a ? 1 : 0.5, to[1] = 1 - to[0];
            break;
        case Op::select:
            to[0] = 0, to[1] = a != 0 ? 1 : 0, to[2] = 1 - to[1];
            break;
        case Op::lookup:
            for (std::uint32_t k = 0; k < s.count; ++k) to[k] = graph_->table(n.a)(a, b, n.flag / 16 + (k == 0 ? 1 : 0), n.flag % 16 + (k == 1 ? 1 : 0));
            break;
        case Op::call:
            for (std::uint32_t k = 0; k < s.count; ++k) to[k] = call(graph_->derivative_of(n.a, k), s);
            break;
        default:  // constant between jumps
            std::fill(to, to + s.count, 0.0);
    }
}

// The slopes of the slopes.
void Tape::bends_of(const Step& s)
{
    const Node n = (*graph_)[s.node];
    double a = value_[children_[s.first]], b = s.count > 1 ? value_[children_[s.first + 1]] : 0;
    double f = value_[static_cast<std::size_t>(&s - steps_.data())];
    double* to = bends_.data() + s.second;
    std::fill(to, to + s.count * s.count, 0.0);
    auto both = [&](double v) { to[1] = to[2] = v; };
    bool near = std::abs(a) < kSingularOffset;
    switch (n.op) {
        case Op::mul:
            both(1);
            break;
        case Op::div:
            both(-1 / (b * b));
            to[3] = 2 * f / (b * b);
            break;
        case Op::pow:
            if (near && b < 2) break;
            to[0] = b * (b - 1) * std::pow(a, b - 2);
            if (a <= kSingularOffset) break;
            both(std::pow(a, b - 1) * (1 + b * std::log(a)));
            to[3] = f * std::log(a) * std::log(a);
            break;
        case Op::sqrt:
            if (a > kSingularOffset) to[0] = -0.25 / (a * std::sqrt(a));
            break;
        case Op::exp:
            to[0] = f;
            break;
        case Op::log:
            if (a > kSingularOffset) to[0] = -1 / (a * a);
            break;
        case Op::sin:
        case Op::cos:
            to[0] = -f;
            break;
        case Op::tan:
            to[0] = 2 * f * (1 + f * f);
            break;
        case Op::asin:
        case Op::acos:
            if (double rest = 1 - a * a; rest > kSingularOffset) to[0] = (n.op == Op::asin ? a : -a) / (rest * std::sqrt(rest));
            break;
        case Op::atan:
            to[0] = -2 * a / ((1 + a * a) * (1 + a * a));
            break;
        case Op::sinh:
        case Op::cosh:
            to[0] = f;
            break;
        case Op::tanh:
            to[0] = -2 * f * (1 - f * f);
            break;
        case Op::atan2: {
            double square = a * a + b * b;
            if (square <= kSingularOffset) break;
            to[0] = -2 * a * b / (square * square);
            both((a * a - b * b) / (square * square));
            to[3] = -to[0];
            break;
        }
        case Op::lookup:
            for (std::uint32_t i = 0; i < s.count; ++i)
                for (std::uint32_t k = 0; k < s.count; ++k)
                    to[i * s.count + k] = graph_->table(n.a)(a, b, n.flag / 16 + (i == 0) + (k == 0), n.flag % 16 + (i == 1) + (k == 1));
            break;
        case Op::call:
            for (std::uint32_t i = 0; i < s.count; ++i)
                for (std::uint32_t k = 0; k < s.count; ++k) to[i * s.count + k] = call(graph_->derivative_of(graph_->derivative_of(n.a, i), k), s);
            break;
        default:
            break;
    }
}

void Tape::along(std::span<const Complex> direction, std::vector<Complex>& slopes)
{
    std::size_t next = 0;
    for (std::size_t i = 0; i < steps_.size(); ++i) {
        const Step& s = steps_[i];
        tangent_[i] = 0;
        if (next < leaves_.size() && leaves_[next].place == i) tangent_[i] = direction[next++];
        for (std::uint32_t k = 0; k < s.count; ++k)
            if (Complex inner = tangent_[children_[s.first + k]]; inner != 0.0) tangent_[i] += slopes_[s.first + k] * inner;
    }
    slopes.resize(roots_.size());
    for (std::size_t r = 0; r < roots_.size(); ++r) slopes[r] = tangent_[roots_[r]];
}

void Tape::gradient(std::span<const Complex> weights, std::vector<Complex>& by_leaf)
{
    std::fill(adjoint_.begin(), adjoint_.end(), Complex(0));
    for (std::size_t r = 0; r < roots_.size(); ++r) adjoint_[roots_[r]] += weights[r];
    for (std::size_t i = steps_.size(); i-- > 0;) {
        if (adjoint_[i] == 0.0) continue;
        const Step& s = steps_[i];
        for (std::uint32_t k = 0; k < s.count; ++k)
            if (slopes_[s.first + k] != 0) adjoint_[children_[s.first + k]] += slopes_[s.first + k] * adjoint_[i];
    }
    by_leaf.resize(leaves_.size());
    for (std::size_t l = 0; l < leaves_.size(); ++l) by_leaf[l] = adjoint_[leaves_[l].place];
}

const std::vector<std::uint32_t>& Tape::sweep_below(std::size_t root)
{
    below_.resize(roots_.size());
    std::vector<std::uint32_t>& below = below_[root];
    if (below.empty()) {
        std::vector<char> seen(steps_.size(), 0);
        below.push_back(roots_[root]);
        seen[roots_[root]] = 1;
        for (std::size_t k = 0; k < below.size(); ++k) {
            const Step& s = steps_[below[k]];
            for (std::uint32_t c = 0; c < s.count; ++c)
                if (std::uint32_t child = children_[s.first + c]; seen[child] == 0) seen[child] = 1, below.push_back(child);
        }
        std::sort(below.begin(), below.end(), std::greater<>());  // what is used stands before what uses it
    }
    for (std::uint32_t i : below) adjoint_[i] = 0;
    adjoint_[roots_[root]] = 1;
    for (std::uint32_t i : below) {
        if (adjoint_[i] == 0.0) continue;
        const Step& s = steps_[i];
        for (std::uint32_t k = 0; k < s.count; ++k)
            if (slopes_[s.first + k] != 0) adjoint_[children_[s.first + k]] += slopes_[s.first + k] * adjoint_[i];
    }
    return below;
}

void Tape::gradient_of(std::size_t root, std::vector<std::pair<std::size_t, double>>& by_leaf)
{
    if (leaf_at_.empty()) {
        leaf_at_.assign(steps_.size(), kNoNode);
        for (std::uint32_t l = 0; l < leaves_.size(); ++l) leaf_at_[leaves_[l].place] = l;
    }
    by_leaf.clear();
    for (std::uint32_t i : sweep_below(root))
        if (leaf_at_[i] != kNoNode) by_leaf.emplace_back(leaf_at_[i], adjoint_[i].real());
}

void Tape::gradient_along(std::span<const Complex> direction, std::span<const Complex> weights, std::vector<Complex>& by_leaf)
{
    if (!bent_) {
        for (const Step& s : steps_)
            if (s.count > 0) bends_of(s);
        bent_ = true;
    }
    std::vector<Complex> unused;
    along(direction, unused);
    std::fill(adjoint_.begin(), adjoint_.end(), Complex(0));
    std::fill(adjoint_tangent_.begin(), adjoint_tangent_.end(), Complex(0));
    for (std::size_t r = 0; r < roots_.size(); ++r) adjoint_[roots_[r]] += weights[r];
    for (std::size_t i = steps_.size(); i-- > 0;) {
        if (adjoint_[i] == 0.0 && adjoint_tangent_[i] == 0.0) continue;
        const Step& s = steps_[i];
        for (std::uint32_t k = 0; k < s.count; ++k) {
            double slope = slopes_[s.first + k];
            Complex bend = 0;  // how the slope itself changes along the direction
            for (std::uint32_t j = 0; j < s.count; ++j)
                if (double second = bends_[s.second + k * s.count + j]; second != 0) bend += second * tangent_[children_[s.first + j]];
            std::uint32_t child = children_[s.first + k];
            if (slope != 0) {
                adjoint_[child] += slope * adjoint_[i];
                adjoint_tangent_[child] += slope * adjoint_tangent_[i];
            }
            if (bend != 0.0) adjoint_tangent_[child] += bend * adjoint_[i];
        }
    }
    by_leaf.resize(leaves_.size());
    for (std::size_t l = 0; l < leaves_.size(); ++l) by_leaf[l] = adjoint_tangent_[leaves_[l].place];
}

}  // namespace netloop
