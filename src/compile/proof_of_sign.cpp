// SPDX-License-Identifier: Apache-2.0
#include "compile/proof_of_sign.hpp"

#include <algorithm>
#include <cmath>

#include "compile/parameters.hpp"

namespace netloop {

namespace {
ProofOfSign::Sign flip(ProofOfSign::Sign s)
{
    using Sign = ProofOfSign::Sign;
    switch (s) {
        case Sign::positive:
            return Sign::negative;
        case Sign::negative:
            return Sign::positive;
        case Sign::not_negative:
            return Sign::not_positive;
        case Sign::not_positive:
            return Sign::not_negative;
        default:
            return s;
    }
}
}  // namespace

NodeId ProofOfSign::size_of(Graph& g, NodeId id)
{
    const Node n = g[id];
    switch (n.op) {
        case Op::add:
        case Op::sub:
            return g.add(size_of(g, n.a), size_of(g, n.b));
        case Op::mul:
            return g.mul(size_of(g, n.a), size_of(g, n.b));
        case Op::div:
            return g.div(size_of(g, n.a), size_of(g, n.b));
        case Op::neg:
            return size_of(g, n.a);
        default:
            return g.unary(Op::abs, id);
    }
}

bool ProofOfSign::assume(NodeId id, EquationSystem& system)
{
    constexpr std::size_t kMost = 200;  // larger expressions are no coefficients that a user would know
    Graph& g = system.graph();
    if (std::find(system.assumed.begin(), system.assumed.end(), id) != system.assumed.end()) return true;
    std::vector<NodeId> below = g.reachable({id});
    if (below.size() > kMost) return false;
    bool of_params = std::all_of(below.begin(), below.end(), [&](NodeId n) {
        Op op = g[n].op;
        return op == Op::constant || op == Op::parameter || op == Op::add || op == Op::sub || op == Op::mul || op == Op::div || op == Op::neg ||
               op == Op::pow || op == Op::sqrt;
    });
    if (!of_params) return false;
    if (parameters_.empty()) parameters_ = default_parameters(flat_);
    NodeValues values(g, [&](const Node& n) { return parameters_[n.a]; });
    double value = values(id);
    if (!std::isfinite(value) || value == 0) return false;
    NodeId size = size_of(system.graph(), id);
    NodeValues sizes(g, [&](const Node& n) { return parameters_[n.a]; });
    if (!(std::abs(value) > kCancelled * sizes(size))) return false;
    system.assumed.push_back(id);
    return true;
}

void ProofOfSign::collect_factors(NodeId id, std::vector<NodeId>& factors, bool& negative, int depth) const
{
    const Node& n = flat_.graph[id];
    if (n.op == Op::neg) {
        negative = !negative;
        return collect_factors(n.a, factors, negative, depth + 1);
    }
    if ((n.op == Op::mul || n.op == Op::div) && depth < 24) {
        collect_factors(n.a, factors, negative, depth + 1);
        return collect_factors(n.b, factors, negative, depth + 1);
    }
    factors.push_back(id);
}

ProofOfSign::Sign ProofOfSign::sign(NodeId id, int depth)
{
    const Graph& g = flat_.graph;
    const Node& n = g[id];
    if (depth > 24) return Sign::unknown;  // deeper proofs are not worth their time
    auto of = [&](NodeId child) { return sign(child, depth + 1); };
    auto least = [](Sign s) { return s == Sign::positive || s == Sign::not_negative; };
    auto most = [](Sign s) { return s == Sign::negative || s == Sign::not_positive; };
    auto sum = [&](Sign a, Sign b) {
        if (least(a) && least(b)) return a == Sign::positive || b == Sign::positive ? Sign::positive : Sign::not_negative;
        if (most(a) && most(b)) return a == Sign::negative || b == Sign::negative ? Sign::negative : Sign::not_positive;
        return Sign::unknown;
    };
    switch (n.op) {
        case Op::constant: {
            double v = g.value(id);
            return v > 0 ? Sign::positive : v < 0 ? Sign::negative : v == 0 ? Sign::not_negative : Sign::unknown;
        }
        case Op::parameter: {
            const FlatParameter& p = flat_.parameters[n.a];
            if (p.low != kNoNode && g.is_constant(p.low) && g.value(p.low) > 0) return Sign::positive;
            if (p.high != kNoNode && g.is_constant(p.high) && g.value(p.high) < 0) return Sign::negative;
            if (p.low != kNoNode && g.is_constant(p.low) && g.value(p.low) == 0) return Sign::not_negative;
            if (p.high != kNoNode && g.is_constant(p.high) && g.value(p.high) == 0) return Sign::not_positive;
            return Sign::unknown;
        }
        case Op::neg:
            return flip(of(n.a));
        case Op::exp:
        case Op::cosh:
            return Sign::positive;
        case Op::abs:
            return Sign::not_negative;
        case Op::sqrt: {
            Sign s = of(n.a);
            return s == Sign::positive ? s : Sign::not_negative;
        }
        case Op::mul:
        case Op::div: {
            // factors that stand twice are a square, whatever their sign
            std::vector<NodeId> factors;
            bool negative = false;
            collect_factors(id, factors, negative, 0);
            std::sort(factors.begin(), factors.end());
            Sign product = Sign::positive;
            for (std::size_t k = 0; k < factors.size(); ++k) {
                bool square = k + 1 < factors.size() && factors[k + 1] == factors[k];
                Sign s = of(factors[k]);
                if (square) {
                    s = s == Sign::positive || s == Sign::negative ? Sign::positive : Sign::not_negative;
                    ++k;
                }
                if (s == Sign::unknown) return Sign::unknown;
                if (most(s)) negative = !negative;
                if (s == Sign::not_negative || s == Sign::not_positive) product = Sign::not_negative;
            }
            return negative ? flip(product) : product;
        }
        case Op::add:
            return sum(of(n.a), of(n.b));
        case Op::sub:
            return sum(of(n.a), flip(of(n.b)));
        case Op::max: {
            Sign a = of(n.a), b = of(n.b);
            return a == Sign::positive || b == Sign::positive ? Sign::positive : Sign::unknown;
        }
        case Op::pow:
            return of(n.a) == Sign::positive ? Sign::positive : Sign::unknown;
        case Op::select: {
            Sign a = of(n.b), b = of(n.c);
            return a == b ? a : Sign::unknown;
        }
        default:
            return Sign::unknown;
    }
}

}  // namespace netloop
