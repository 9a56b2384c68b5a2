// SPDX-License-Identifier: Apache-2.0
// Measures and demands of a scenario: each call such as max(x) becomes an accumulator, whose result stands in a memory when the run is over; the
// expressions around them are worked out from those.
#include <array>
#include <map>

#include "model/instantiator.hpp"
#include "model/measures.hpp"

namespace netloop {

std::optional<MeasureKind> measure_kind(const Expr& call)
{
    static const std::map<std::string, MeasureKind> kWords{{"max", MeasureKind::max},
                                                           {"min", MeasureKind::min},
                                                           {"mean", MeasureKind::mean},
                                                           {"final", MeasureKind::final},
                                                           {"integral", MeasureKind::integral},
                                                           {"rms", MeasureKind::rms},
                                                           {"first", MeasureKind::first},
                                                           {"last", MeasureKind::last},
                                                           {"count", MeasureKind::count},
                                                           {"time_of_max", MeasureKind::time_of_max},
                                                           {"time_of_min", MeasureKind::time_of_min}};
    if (call.kind != ExprKind::call || call.path.size() != 1 || call.args.size() != 1) return std::nullopt;
    auto it = kWords.find(call.path[0].name);
    if (it == kWords.end()) return std::nullopt;
    return it->second;
}

MeasureCall take_apart(const Expr& call, MeasureKind kind)
{
    MeasureCall m;
    m.kind = kind;
    m.value = call.args[0];
    if (m.value->kind == ExprKind::window) {
        m.from_time = m.value->args[1];
        m.to_time = m.value->args.size() > 2 ? m.value->args[2] : nullptr;
        m.value = m.value->args[0];
    }
    bool moment = m.value->kind == ExprKind::at_moment;
    if (kind == MeasureKind::first || kind == MeasureKind::last) {
        if (!moment) {
            m.trouble = "is taken at a moment: " + call.path[0].name + "(time when x > 2 m)";
            return m;
        }
        m.when = m.value->args[1];
        m.value = m.value->args[0];
    } else if (moment) {
        m.trouble = "has no 'when'; first(...) and last(...) have";
    } else if (kind == MeasureKind::count) {
        m.when = m.value;
    }
    return m;
}

Value Instantiator::build_measured(const Expr& e, const Env& env)
{
    MeasureKind kind = *measure_kind(e);
    MeasureCall call = take_apart(e, kind);
    if (!call.trouble.empty()) give_up(messages::bad_value, e.span, fmt::format("'{}' {}", e.path[0].name, call.trouble));
    Env inside = env;
    inside.measures = nullptr;  // no measure within a measure
    inside.located = false;     // looking on must not change how the run steps
    FlatMemory memory;
    memory.path = brief(e);
    memory.hidden = true;
    memory.origin = {0, e.span};
    FlatAccumulator a;
    a.kind = kind;
    a.value = build_scalar(*call.value, inside);
    if (call.when != nullptr) a.when = build_scalar(*call.when, inside);
    for (auto [time, place] : {std::pair{call.from_time, &a.from_time}, {call.to_time, &a.to_time}}) {
        if (time == nullptr) continue;
        *place = build_scalar(*time, inside);
        for (NodeId id : graph_.reachable({*place}))
            if (Op op = graph_[id].op; op == Op::time || op == Op::quantity || op == Op::memory)
                give_up(messages::bad_value, time->span, "the window of a measure must not change while the run goes on", {}, {},
                        "make it a number or a param");
    }
    a.memory = add_memory(std::move(memory));
    model_->accumulators.push_back(a);
    return scalar(graph_.leaf(Op::memory, a.memory, 1));
}

void Instantiator::make_measures()
{
    std::map<std::string, Value> known;
    for (const BodyItem& item : request_.measures) {
        const auto& m = *item.statement->as<MeasureItem>();
        try {
            Env env{0, item.scope, nullptr, nullptr, false};
            env.measures = &known;
            Value v = build(*m.value, env);
            if (v.is_array()) give_up(messages::bad_value, m.value->span, "a measure is one number");
            known[m.name] = v;
            auto type = request_.measure_types.find(m.name);
            FlatMeasure made;
            made.name = m.name;
            made.value = v.node;
            made.boolean = v.boolean;
            if (type != request_.measure_types.end()) made.unit = type->second;
            made.text = brief(*m.value);
            made.doc = item.statement->doc;
            made.origin = {0, item.statement->span};
            model_->measures.push_back(std::move(made));
        } catch (const StatementGivenUp&) {
        }
    }
    for (const BodyItem& item : request_.demands) {
        const auto& r = *item.statement->as<RequireItem>();
        try {
            Env env{0, item.scope, nullptr, nullptr, false};
            env.measures = &known;
            FlatDemand made;
            made.condition = build_scalar(*r.condition, env);
            made.text = r.text;
            made.source = brief(*r.condition);
            made.origin = {0, item.statement->span};
            if (r.condition->kind == ExprKind::compare) {
                // the accumulators of both sides stand already: the sides are built anew only to name their values
                std::size_t n = model_->accumulators.size();
                made.left = build_scalar(*r.condition->args[0], env);
                made.right = build_scalar(*r.condition->args[1], env);
                share_accumulators(n, {&made.left, &made.right});
                if (auto unit = request_.demand_units.find(item.statement); unit != request_.demand_units.end()) made.unit = unit->second;
            }
            model_->demands.push_back(std::move(made));
        } catch (const StatementGivenUp&) {
        }
    }
}

// Accumulators from number `from` on that repeat earlier ones give way to them.
void Instantiator::share_accumulators(std::size_t from, const std::vector<NodeId*>& users)
{
    auto& list = model_->accumulators;
    for (std::size_t i = from; i < list.size();) {
        std::size_t same = 0;
        while (same < from && !(list[same].kind == list[i].kind && list[same].value == list[i].value && list[same].when == list[i].when &&
                                list[same].from_time == list[i].from_time && list[same].to_time == list[i].to_time))
            ++same;
        if (same == from) {
            ++i;
            continue;
        }
        NodeId mine = graph_.leaf(Op::memory, list[i].memory, 1), other = graph_.leaf(Op::memory, list[same].memory, 1);
        for (NodeId* user : users) *user = replace_leaf(graph_, *user, mine, other);
        list.erase(list.begin() + static_cast<std::ptrdiff_t>(i));
    }
}

}  // namespace netloop
