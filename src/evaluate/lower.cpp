// SPDX-License-Identifier: Apache-2.0
#include "evaluate/lower.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <unordered_map>

namespace netloop {
namespace {

// What a node needs values of: of a call its arguments, not the pairs that list them.
template <typename Visit>
void children_of(const Graph& g, NodeId id, Visit visit)
{
    const Node& n = g[id];
    if (n.op == Op::call) {
        for (NodeId argument : g.arguments(id)) visit(argument);
        return;
    }
    for (int k = first_child(n.op); k < end_of_children(n.op); ++k) {
        NodeId child = k == 0 ? n.a : k == 1 ? n.b : n.c;
        if (child != kNoNode) visit(child);
    }
}

std::uint64_t mix(std::uint64_t h, std::uint64_t v)
{
    h ^= v + 0x9e3779b97f4a7c15ull + (h << 6) + (h >> 2);
    return h * 0xff51afd7ed558ccdull;
}

}  // namespace

Lowering::Lowering(const Graph& graph, std::uint32_t n_parameters, std::uint32_t n_modes, std::uint32_t n_memories, std::uint32_t n_z) : graph_(graph)
{
    layout_.parameters = 1;
    layout_.modes = layout_.parameters + n_parameters;
    layout_.memories = layout_.modes + n_modes;
    layout_.z = layout_.memories + n_memories;
    layout_.rates = layout_.z + n_z;
    layout_.constants = layout_.rates + n_z;
    next_place_ = layout_.constants;
}

void Lowering::classify(const std::vector<NodeId>& order)
{
    if (nature_.size() < graph_.size()) nature_.resize(graph_.size(), Nature::unknown);
    for (NodeId id : order) {
        if (nature_[id] != Nature::unknown) continue;
        const Node& n = graph_[id];
        Nature nature = n.op == Op::constant ? Nature::constant : n.op == Op::parameter ? Nature::parameter : Nature::varying;
        if (n_children(n.op) > 0) {
            nature = Nature::parameter;
            children_of(graph_, id, [&](NodeId child) {
                if (nature_[child] == Nature::varying) nature = Nature::varying;
            });
        }
        nature_[id] = nature;
    }
}

std::uint32_t Lowering::place_of_leaf(NodeId id)
{
    const Node& n = graph_[id];
    switch (n.op) {
        case Op::time:
            return layout_.time;
        case Op::parameter:
            return layout_.parameters + n.a;
        case Op::mode:
            return layout_.modes + n.a;
        case Op::memory:
            return layout_.memories + n.a;
        case Op::unknown:
            return layout_.z + n.a;
        case Op::rate:
            return layout_.rates + n.a;
        default:
            break;
    }
    if (fixed_places_.size() < graph_.size()) fixed_places_.resize(graph_.size(), 0);
    std::uint32_t& place = fixed_places_[id];
    if (place == 0) {  // 0 is the place of time
        place = new_place();
        if (n.op == Op::constant)
            literals_.emplace_back(place, graph_.value(id));
        else
            hoisted_.push_back(id);
    }
    return place;
}

Program Lowering::prologue()
{
    in_prologue_ = true;
    std::vector<NodeId> roots = hoisted_;
    std::sort(roots.begin(), roots.end());
    Program p = lower("prologue", roots);
    // results must land where the other programs expect them
    Kernel copies;
    for (std::size_t i = 0; i < roots.size(); ++i) {
        copies.code.push_back({Op::constant, 0, fixed_places_[roots[i]], p.results[i], 0, 0});
        p.results[i] = fixed_places_[roots[i]];
    }
    if (!copies.code.empty()) p.kernels.push_back(std::move(copies));
    layout_.size = next_place_;
    return p;
}

Program Lowering::lower_in_place(std::string name, const std::vector<NodeId>& roots)
{
    in_prologue_ = true;
    Program p = lower(std::move(name), roots);
    in_prologue_ = false;
    return p;
}

Program Lowering::lower(std::string name, const std::vector<NodeId>& roots)
{
    Program program;
    program.name = std::move(name);
    std::vector<NodeId> order = graph_.reachable(roots);
    classify(order);
    auto is_leaf = [&](NodeId id) {
        if (n_children(graph_[id].op) == 0) return true;
        return !in_prologue_ && nature_[id] != Nature::varying;  // hoisted
    };

    // 1. Each node belongs to the unit of its only user; one with users in several units, or a root, has a unit of its own.
    //    Units are numbered from the last root down; a unit reads only units with higher numbers.
    constexpr std::uint32_t kNone = 0xffffffffu;
    if (position_.size() < graph_.size()) position_.resize(graph_.size(), kNone);
    for (std::uint32_t i = 0; i < order.size(); ++i) position_[order[i]] = i;
    std::vector<std::uint32_t> owner(order.size(), kNone), root_of;
    std::vector<char> is_root(order.size(), 0), several(order.size(), 0), heads(order.size(), 0);
    for (NodeId r : roots) is_root[position_[r]] = 1;
    for (std::size_t i = order.size(); i-- > 0;) {
        if (is_leaf(order[i])) continue;
        if (owner[i] == kNone && !is_root[i]) continue;  // below hoisted nodes only
        if (is_root[i] || several[i]) {
            owner[i] = static_cast<std::uint32_t>(root_of.size());
            root_of.push_back(static_cast<std::uint32_t>(i));
            heads[i] = 1;
        }
        children_of(graph_, order[i], [&](NodeId child) {
            std::uint32_t c = position_[child];
            if (owner[c] == kNone)
                owner[c] = owner[i];
            else if (owner[c] != owner[i])
                several[c] = 1;
        });
    }
    // nodes of each unit, ascending, one unit behind the other
    auto n_units = static_cast<std::uint32_t>(root_of.size());
    std::vector<std::uint32_t> first_node(n_units + 1, 0), members;
    auto belongs = [&](std::size_t i) { return owner[i] != kNone && !is_leaf(order[i]); };
    for (std::size_t i = 0; i < order.size(); ++i)
        if (belongs(i)) ++first_node[owner[i] + 1];
    for (std::uint32_t u = 0; u < n_units; ++u) first_node[u + 1] += first_node[u];
    members.resize(first_node[n_units]);
    std::vector<std::uint32_t> next_free(first_node.begin(), first_node.end() - 1);
    for (std::uint32_t i = 0; i < order.size(); ++i)
        if (belongs(i)) members[next_free[owner[i]]++] = i;

    // 2. Shapes: the unit's code with inputs numbered as they are first met. Units of one level and shape are instances of one code.
    struct Shape {
        std::uint32_t level = 0;
        std::uint64_t hash = 0;
        std::vector<Instruction> code;
        std::vector<std::uint32_t> arguments;
        std::uint32_t n_inputs = 0, n_registers = 0;
        std::vector<std::uint32_t> units;
    };
    std::vector<Shape> shapes;
    std::unordered_multimap<std::uint64_t, std::uint32_t> shape_of;
    constexpr std::uint32_t kUnit = 0x80000000u;  // marks an input that is the result of a unit
    std::vector<std::uint32_t> input_pool, inputs_of(n_units), reg(order.size(), 0), met(order.size(), kNone), level(n_units, 0);
    Shape draft;
    for (std::uint32_t u = n_units; u-- > 0;) {
        draft.code.clear();
        draft.arguments.clear();
        inputs_of[u] = static_cast<std::uint32_t>(input_pool.size());
        // inputs first, so that their registers are the lowest
        for (std::uint32_t k = first_node[u]; k < first_node[u + 1]; ++k) {
            children_of(graph_, order[members[k]], [&](NodeId child) {
                std::uint32_t c = position_[child];
                bool leaf = is_leaf(child);
                if ((!leaf && !heads[c]) || met[c] == u) return;
                met[c] = u;
                reg[c] = static_cast<std::uint32_t>(input_pool.size()) - inputs_of[u];
                input_pool.push_back(leaf ? place_of_leaf(child) : kUnit | owner[c]);
                if (!leaf) level[u] = std::max(level[u], level[owner[c]] + 1);
            });
        }
        draft.n_inputs = static_cast<std::uint32_t>(input_pool.size()) - inputs_of[u];
        std::uint32_t next = draft.n_inputs;
        std::uint64_t h = mix(draft.n_inputs, level[u]);
        for (std::uint32_t k = first_node[u]; k < first_node[u + 1]; ++k) {
            NodeId id = order[members[k]];
            const Node& n = graph_[id];
            auto at = [&](NodeId child) { return child == kNoNode ? kNoNode : reg[position_[child]]; };
            Instruction i{n.op, n.flag, next, 0, 0, 0};
            if (n.op == Op::lookup)
                i.a = n.a, i.b = at(n.b), i.c = at(n.c);
            else if (n.op == Op::call) {
                i.a = n.a;
                i.b = static_cast<std::uint32_t>(draft.arguments.size());
                for (NodeId argument : graph_.arguments(id)) draft.arguments.push_back(at(argument)), h = mix(h, draft.arguments.back());
                i.c = static_cast<std::uint32_t>(draft.arguments.size()) - i.b;
            } else {
                i.a = at(n.a);
                if (n_children(n.op) > 1) i.b = at(n.b);
                if (n_children(n.op) > 2) i.c = at(n.c);
            }
            for (std::uint64_t part : {static_cast<std::uint64_t>(n.op), static_cast<std::uint64_t>(n.flag), static_cast<std::uint64_t>(i.a),
                                       static_cast<std::uint64_t>(i.b), static_cast<std::uint64_t>(i.c)})
                h = mix(h, part);
            draft.code.push_back(i);
            // a node with a register of its own is an input of other units, but a result here
            reg[members[k]] = next++;
        }
        draft.n_registers = next;
        draft.level = level[u];
        draft.hash = h;
        auto same = [&](const Shape& s) {
            return s.level == draft.level && s.n_inputs == draft.n_inputs && s.arguments == draft.arguments &&
                   std::equal(s.code.begin(), s.code.end(), draft.code.begin(), draft.code.end(), [](const Instruction& x, const Instruction& y) {
                       return x.op == y.op && x.flag == y.flag && x.a == y.a && x.b == y.b && x.c == y.c;
                   });
        };
        auto [begin, end] = shape_of.equal_range(h);
        while (begin != end && !same(shapes[begin->second])) ++begin;
        if (begin == end) {
            shape_of.emplace(h, static_cast<std::uint32_t>(shapes.size()));
            shapes.push_back(draft);
            shapes.back().units.push_back(u);
        } else {
            shapes[begin->second].units.push_back(u);
        }
    }

    // 3. Places of unit results, those of one shape side by side: what one kernel writes is one piece of memory, and what the next one
    //    reads of it follows each other too.
    constexpr std::size_t kFewest = 8;  ///< fewer instances than this run as scalar code
    std::stable_sort(shapes.begin(), shapes.end(), [](const Shape& a, const Shape& b) {
        return std::pair(a.level, a.units.size() >= kFewest) < std::pair(b.level, b.units.size() >= kFewest);
    });
    std::vector<std::uint32_t> place(n_units);
    for (const Shape& shape : shapes)
        for (std::uint32_t u : shape.units) place[u] = new_place();
    for (std::uint32_t& input : input_pool)
        if ((input & kUnit) != 0) input = place[input & ~kUnit];

    // 4. Shapes with many units become kernels; the others are joined into straight scalar code, in the order in which the expressions
    //    were built rather than level by level, so that a value is used soon after it is known.
    std::vector<std::uint32_t> where;
    std::vector<std::pair<std::uint32_t, const Shape*>> waiting;  // units of scalar code
    auto close_straight = [&] {
        if (waiting.empty()) return;
        std::sort(waiting.begin(), waiting.end(), [](const auto& a, const auto& b) { return a.first > b.first; });  // ascending nodes
        Kernel straight;
        for (const auto& [u, s] : waiting) {
            const Shape& shape = *s;
            where.resize(shape.n_registers);
            for (std::uint32_t i = 0; i < shape.n_inputs; ++i) where[i] = input_pool[inputs_of[u] + i];
            for (Instruction i : shape.code) {
                std::uint32_t target = i.to + 1 == shape.n_registers ? place[u] : new_place();
                where[i.to] = target;
                i.to = target;
                if (i.op == Op::call) {
                    auto from = shape.arguments.begin() + i.b;
                    i.b = static_cast<std::uint32_t>(straight.arguments.size());
                    for (auto to = from + i.c; from != to; ++from) straight.arguments.push_back(where[*from]);
                    straight.code.push_back(i);
                    continue;
                }
                if (i.op != Op::lookup) i.a = where[i.a];
                if (n_children(i.op) > 1) i.b = where[i.b];
                if (n_children(i.op) > 2 || (i.op == Op::lookup && i.c != kNoNode)) i.c = where[i.c];
                straight.code.push_back(i);
            }
        }
        waiting.clear();
        program.kernels.push_back(std::move(straight));
    };
    for (const Shape& shape : shapes) {
        if (shape.units.size() < kFewest) {
            for (std::uint32_t u : shape.units) waiting.emplace_back(u, &shape);
            continue;
        }
        close_straight();
        Kernel kernel;
        auto n = static_cast<std::uint32_t>(shape.units.size());
        kernel.n_instances = n;
        kernel.n_inputs = shape.n_inputs;
        kernel.n_registers = shape.n_registers;
        kernel.code = shape.code;
        kernel.arguments = shape.arguments;
        kernel.inputs.resize(static_cast<std::size_t>(kernel.n_inputs) * n);
        kernel.output_registers = {shape.n_registers - 1};
        for (std::uint32_t k = 0; k < n; ++k) {
            std::uint32_t u = shape.units[k];
            for (std::uint32_t i = 0; i < kernel.n_inputs; ++i) kernel.inputs[static_cast<std::size_t>(i) * n + k] = input_pool[inputs_of[u] + i];
            kernel.outputs.push_back(place[u]);
        }
        program.kernels.push_back(std::move(kernel));
    }
    close_straight();
    for (NodeId r : roots) program.results.push_back(is_leaf(r) ? place_of_leaf(r) : place[owner[position_[r]]]);
    layout_.size = next_place_;
    return program;
}

std::size_t Program::n_operations() const
{
    std::size_t n = 0;
    for (const Kernel& k : kernels) n += k.code.size() * k.n_instances;
    return n;
}

std::string Program::text() const
{
    std::string out = fmt::format("program {}: {} kernels, {} operations\n", name, kernels.size(), n_operations());
    for (const Kernel& k : kernels) {
        out += fmt::format("  kernel over {} instances, {} inputs\n", k.n_instances, k.n_inputs);
        for (const Instruction& i : k.code) out += fmt::format("    {} <- {} {} {} {}\n", i.to, op_name(i.op), i.a, i.b, i.c);
    }
    return out;
}

}  // namespace netloop
