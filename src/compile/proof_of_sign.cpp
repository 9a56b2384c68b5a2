#include "compile/proof_of_sign.hpp"

namespace netloop {

ProofOfSign::Sign ProofOfSign::sign(NodeId id, int depth)
{
    const Graph& g = flat_.graph;
    const Node& n = g[id];
    if (depth > 24) return Sign::unknown;  // deeper proofs are not worth their time
    auto of = [&](NodeId child) { return sign(child, depth + 1); };
    auto flip = [](Sign s) { return s == Sign::positive ? Sign::negative : s == Sign::negative ? Sign::positive : Sign::unknown; };
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
            if (n.op == Op::mul && n.a == n.b) {
                Sign s = of(n.a);
                return s == Sign::positive || s == Sign::negative ? Sign::positive : Sign::not_negative;
            }
            Sign a = of(n.a), b = of(n.b);
            if (a == Sign::unknown || b == Sign::unknown) return Sign::unknown;
            if (b == Sign::negative) return flip(a);
            if (a == Sign::negative) return flip(b);
            return a == Sign::positive && b == Sign::positive ? Sign::positive : Sign::not_negative;
        }
        case Op::add: {
            Sign a = of(n.a), b = of(n.b);
            if (a == Sign::negative && b == Sign::negative) return a;
            auto least = [](Sign s) { return s == Sign::positive || s == Sign::not_negative; };
            if (!least(a) || !least(b)) return Sign::unknown;
            return a == Sign::positive || b == Sign::positive ? Sign::positive : Sign::not_negative;
        }
        case Op::sub: {
            Sign a = of(n.a), b = flip(of(n.b));
            if (a == Sign::positive && b == Sign::positive) return a;
            if (a == Sign::negative && b == Sign::negative) return a;
            return Sign::unknown;
        }
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
