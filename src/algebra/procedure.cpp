// SPDX-License-Identifier: Apache-2.0
#include "algebra/procedure.hpp"

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>

#include "algebra/differentiate.hpp"
#include "base/interrupt.hpp"

namespace netloop {
namespace {

using Code = ProcedureCode::Step;

// LoopTurns of the loops of a call, and of all calls that it makes: without a bound a few lines could run for ever.
class LoopTurns {
public:
    LoopTurns() { ++depth_; }
    ~LoopTurns()
    {
        if (--depth_ == 0) all_ = 0;
    }
    LoopTurns(const LoopTurns&) = delete;
    LoopTurns& operator=(const LoopTurns&) = delete;
    bool too_many()
    {
        constexpr std::size_t kBetweenLooks = 65536;
        if (++all_ % kBetweenLooks == 0 && interrupt_asked()) all_ = kMostTurnsOfAll + 1;
        return ++own_ > kMostTurns || all_ > kMostTurnsOfAll;
    }

private:
    std::size_t own_ = 0;
    static thread_local std::size_t all_;
    static thread_local int depth_;
};
thread_local std::size_t LoopTurns::all_ = 0;
thread_local int LoopTurns::depth_ = 0;

class Procedure : public Callable {
public:
    Procedure(const Graph& graph, ProcedureText text) : text_(std::move(text))
    {
        made_.n_registers = text_.n_registers;
        made_.arguments = text_.arguments;
        made_.result = text_.result;
        emit(graph, text_.steps);
        tables_ = graph.tables();
        callables_ = graph.callables();
    }

    const std::string& name() const override { return text_.name; }
    std::size_t n_arguments() const override { return text_.arguments.size(); }
    bool has_loops() const override
    {
        for (std::size_t at = 0; at < made_.steps.size(); ++at) {
            const Code& c = made_.steps[at];
            if (c.kind == Code::Kind::jump && c.to <= at) return true;  // backwards; a branch jumps forwards
            if (c.kind == Code::Kind::call && c.called->has_loops()) return true;
        }
        return false;
    }
    const ProcedureCode* code() const override { return &made_; }
    std::size_t n_scratch() const override { return made_.n_registers + most_listed_ + inner_scratch_; }

    double evaluate(const double* arguments, double* r) const override
    {
        std::fill(r, r + made_.n_registers, 0.0);
        for (std::size_t i = 0; i < text_.arguments.size(); ++i) r[text_.arguments[i]] = arguments[i];
        double* listed = r + made_.n_registers;
        LoopTurns turns;
        for (std::size_t at = 0; at < made_.steps.size();) {
            const Code& c = made_.steps[at++];
            switch (c.kind) {
                case Code::Kind::compute:
                    r[c.to] = c.op == Op::select ? select_value(r[c.a], r[c.b], r[c.c]) : evaluate_op(c.op, r[c.a], r[c.b], r[c.c]);
                    break;
                case Code::Kind::constant:
                    r[c.to] = c.number;
                    break;
                case Code::Kind::table:
                    r[c.to] = (*c.tabled)(r[c.a], c.b == kNoNode ? 0 : r[c.b], c.flag / 16, c.flag % 16);
                    break;
                case Code::Kind::call:
                    for (std::uint32_t k = 0; k < c.b; ++k) listed[k] = r[made_.lists[c.a + k]];
                    r[c.to] = c.called->evaluate(listed, listed + most_listed_);
                    break;
                case Code::Kind::jump:
                    if (turns.too_many()) return std::numeric_limits<double>::quiet_NaN();
                    at = c.to;
                    break;
                case Code::Kind::jump_if_zero:
                    if (std::isnan(r[c.a])) return r[c.a];  // a condition without a value leads nowhere
                    if (r[c.a] == 0) at = c.to;
                    break;
            }
        }
        return r[text_.result];
    }

    CallablePtr derivative(Graph& graph, std::size_t argument) const override
    {
        // register r gets a companion r + n that holds its derivative
        std::uint32_t n = text_.n_registers;
        ProcedureText d;
        d.name = text_.name + "'";
        d.arguments = text_.arguments;
        d.result = text_.result + n;
        d.n_registers = 2 * n;
        d.steps.push_back({ProcedureStep::Kind::assign, text_.arguments[argument] + n, graph.constant(1)});
        Gradients gradients(graph, [](const Node& leaf) { return leaf.op == Op::unknown ? leaf.a : kNoNode; });
        std::vector<ProcedureStep> steps = with_derivatives(graph, gradients, text_.steps, n);
        d.steps.insert(d.steps.end(), steps.begin(), steps.end());
        return make_procedure(graph, std::move(d));
    }

private:
    static std::vector<ProcedureStep> with_derivatives(Graph& graph, Gradients& gradients, const std::vector<ProcedureStep>& steps, std::uint32_t n)
    {
        std::vector<ProcedureStep> made;
        for (const ProcedureStep& s : steps) {
            if (s.kind == ProcedureStep::Kind::assign) {
                NodeId sum = graph.constant(0);
                const std::span<const Gradients::Entry> entries = gradients(s.value);
                for (const auto& [reg, partial_by] : entries) sum = graph.add(sum, graph.mul(partial_by, graph.leaf(Op::unknown, reg + n)));
                made.push_back({ProcedureStep::Kind::assign, s.to + n, sum});  // before the register itself changes
                made.push_back(s);
            } else {
                made.push_back({s.kind, 0, s.value, with_derivatives(graph, gradients, s.then_steps, n), with_derivatives(graph, gradients, s.else_steps, n)});
            }
        }
        return made;
    }

    std::uint32_t temporary() { return made_.n_registers++; }
    std::uint32_t emit(Code c)
    {
        made_.steps.push_back(c);
        return static_cast<std::uint32_t>(made_.steps.size() - 1);
    }

    void emit(const Graph& g, const std::vector<ProcedureStep>& steps)
    {
        for (const ProcedureStep& s : steps) {
            if (s.kind == ProcedureStep::Kind::assign) {
                std::uint32_t from = emit_expression(g, s.value);
                emit({Code::Kind::compute, Op::select, 0, s.to, from, from, from});  // a copy
            } else if (s.kind == ProcedureStep::Kind::branch) {
                std::uint32_t condition = emit_expression(g, s.value);
                std::uint32_t over = emit({Code::Kind::jump_if_zero, Op::constant, 0, 0, condition});
                emit(g, s.then_steps);
                std::uint32_t out = emit({Code::Kind::jump});
                made_.steps[over].to = static_cast<std::uint32_t>(made_.steps.size());
                emit(g, s.else_steps);
                made_.steps[out].to = static_cast<std::uint32_t>(made_.steps.size());
            } else {
                auto begin = static_cast<std::uint32_t>(made_.steps.size());
                std::uint32_t condition = emit_expression(g, s.value);
                std::uint32_t out = emit({Code::Kind::jump_if_zero, Op::constant, 0, 0, condition});
                emit(g, s.then_steps);
                emit({Code::Kind::jump, Op::constant, 0, begin});
                made_.steps[out].to = static_cast<std::uint32_t>(made_.steps.size());
            }
        }
    }

    std::uint32_t emit_expression(const Graph& g, NodeId root)
    {
        std::map<NodeId, std::uint32_t> place;
        for (NodeId id : g.reachable({root})) {
            const Node& n = g[id];
            if (n.op == Op::unknown) {
                place[id] = n.a;
                continue;
            }
            if (n.op == Op::pair) continue;  // only lists the arguments of a call
            Code c;
            c.op = n.op;
            c.to = place[id] = temporary();
            if (n.op == Op::constant) {
                c.kind = Code::Kind::constant;
                c.number = g.value(id);
            } else if (n.op == Op::lookup) {
                c.kind = Code::Kind::table;
                c.flag = n.flag;
                c.tabled = &g.table(n.a);
                c.a = place.at(n.b);
                c.b = n.c == kNoNode ? kNoNode : place.at(n.c);
            } else if (n.op == Op::call) {
                c.kind = Code::Kind::call;
                c.called = &g.callable(n.a);
                c.a = static_cast<std::uint32_t>(made_.lists.size());
                for (NodeId argument : g.arguments(id)) made_.lists.push_back(place.at(argument));
                c.b = static_cast<std::uint32_t>(made_.lists.size()) - c.a;
                most_listed_ = std::max<std::size_t>(most_listed_, c.b);
                inner_scratch_ = std::max(inner_scratch_, c.called->n_scratch());
            } else {
                c.a = place.at(n.a);
                if (n_children(n.op) > 1) c.b = place.at(n.b);
                if (n_children(n.op) > 2) c.c = place.at(n.c);
            }
            emit(c);
        }
        return place.at(root);
    }

    ProcedureText text_;
    ProcedureCode made_;
    std::size_t most_listed_ = 0, inner_scratch_ = 0;
    std::vector<TablePtr> tables_;  ///< keep alive what the code points to
    std::vector<CallablePtr> callables_;
};

}  // namespace

CallablePtr make_procedure(const Graph& graph, ProcedureText text)
{
    return std::make_shared<const Procedure>(graph, std::move(text));
}

}  // namespace netloop
