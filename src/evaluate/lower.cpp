#include "evaluate/lower.hpp"

#include <fmt/format.h>

#include <algorithm>

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

/// A piece of work: one result, and all nodes that only it needs.
struct Unit_ {
    NodeId root = kNoNode;
    std::vector<NodeId> nodes;  ///< ascending
    std::uint32_t level = 0;
    std::uint64_t shape = 0;
};

std::uint64_t mix(std::uint64_t h, std::uint64_t v)
{
    h ^= v + 0x9e3779b97f4a7c15ull + (h << 6) + (h >> 2);
    return h * 0xff51afd7ed558ccdull;
}

}  // namespace

Lowering::Lowering(const Graph& graph, std::uint32_t n_parameters, std::uint32_t n_modes, std::uint32_t n_z) : graph_(graph)
{
    layout_.parameters = 1;
    layout_.modes = layout_.parameters + n_parameters;
    layout_.z = layout_.modes + n_modes;
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
        case Op::unknown:
            return layout_.z + n.a;
        case Op::rate:
            return layout_.rates + n.a;
        default:
            break;
    }
    auto [it, fresh] = fixed_places_.emplace(id, 0);
    if (fresh) {
        it->second = new_place();
        if (n.op == Op::constant)
            literals_.emplace_back(it->second, graph_.value(id));
        else
            hoisted_.push_back(id);
    }
    return it->second;
}

Program Lowering::prologue()
{
    in_prologue_ = true;
    std::vector<NodeId> roots = hoisted_;
    std::sort(roots.begin(), roots.end());
    Program p = lower("prologue", roots);
    // results must land where the other programs expect them
    Kernel copies;
    for (std::size_t i = 0; i < roots.size(); ++i) copies.code.push_back({Op::constant, 0, fixed_places_.at(roots[i]), p.results[i], 0, 0});
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
    constexpr std::uint32_t kNone = 0xffffffffu;
    std::unordered_map<NodeId, std::uint32_t> unit_of;
    std::vector<Unit_> units;
    std::vector<std::uint32_t> owner(order.size(), kNone);
    std::unordered_map<NodeId, std::uint32_t> position;
    for (std::uint32_t i = 0; i < order.size(); ++i) position[order[i]] = i;
    std::vector<char> is_root(order.size(), 0), several(order.size(), 0);
    for (NodeId r : roots) is_root[position[r]] = 1;
    for (std::size_t i = order.size(); i-- > 0;) {
        NodeId id = order[i];
        if (is_leaf(id)) continue;
        if (owner[i] == kNone && !is_root[i]) continue;  // below hoisted nodes only
        if (is_root[i] || several[i]) {
            owner[i] = static_cast<std::uint32_t>(units.size());
            units.push_back({id, {}, 0, 0});
            unit_of[id] = owner[i];
        }
        units[owner[i]].nodes.push_back(id);
        children_of(graph_, id, [&](NodeId child) {
            std::uint32_t c = position[child];
            if (owner[c] == kNone)
                owner[c] = owner[i];
            else if (owner[c] != owner[i])
                several[c] = 1;
        });
    }
    for (Unit_& u : units) std::reverse(u.nodes.begin(), u.nodes.end());

    // 2. Places of unit results; levels in ascending order of roots (a unit reads only units with smaller roots).
    std::vector<std::uint32_t> by_root(units.size());
    for (std::uint32_t i = 0; i < units.size(); ++i) by_root[i] = i;
    std::sort(by_root.begin(), by_root.end(), [&](std::uint32_t a, std::uint32_t b) { return units[a].root < units[b].root; });
    std::unordered_map<NodeId, std::uint32_t> place;
    for (std::uint32_t u : by_root) place[units[u].root] = new_place();

    // 3. Shapes: the unit's code with leaves numbered as they are first met.
    struct Draft {
        std::vector<Instruction> code;
        std::vector<std::uint32_t> arguments;
        std::vector<std::uint32_t> inputs;
        std::uint32_t n_registers = 0;
        std::uint32_t output = 0;
    };
    auto draft_of = [&](Unit_& u) {
        Draft d;
        std::unordered_map<NodeId, std::uint32_t> input_register, node_register;
        // inputs first, so that registers of inputs are the lowest
        for (NodeId id : u.nodes) {
            children_of(graph_, id, [&](NodeId child) {
                bool inner = !is_leaf(child) && !unit_of.contains(child);
                if (inner || input_register.contains(child)) return;
                input_register[child] = static_cast<std::uint32_t>(d.inputs.size());
                d.inputs.push_back(is_leaf(child) ? place_of_leaf(child) : place.at(child));
                if (!is_leaf(child)) u.level = std::max(u.level, units[unit_of.at(child)].level + 1);
            });
        }
        auto next = static_cast<std::uint32_t>(d.inputs.size());
        std::uint64_t h = d.inputs.size();
        for (NodeId id : u.nodes) {
            const Node& n = graph_[id];
            auto reg = [&](NodeId child) {
                if (child == kNoNode) return kNoNode;
                auto it = input_register.find(child);
                return it != input_register.end() ? it->second : node_register.at(child);
            };
            Instruction i{n.op, n.flag, next, 0, 0, 0};
            if (n.op == Op::lookup)
                i.a = n.a, i.b = reg(n.b), i.c = reg(n.c);
            else if (n.op == Op::call) {
                i.a = n.a;
                i.b = static_cast<std::uint32_t>(d.arguments.size());
                for (NodeId argument : graph_.arguments(id)) d.arguments.push_back(reg(argument)), h = mix(h, d.arguments.back());
                i.c = static_cast<std::uint32_t>(d.arguments.size()) - i.b;
            } else {
                i.a = reg(n.a);
                if (n_children(n.op) > 1) i.b = reg(n.b);
                if (n_children(n.op) > 2) i.c = reg(n.c);
            }
            for (std::uint64_t part : {static_cast<std::uint64_t>(n.op), static_cast<std::uint64_t>(n.flag), static_cast<std::uint64_t>(i.a),
                                       static_cast<std::uint64_t>(i.b), static_cast<std::uint64_t>(i.c)})
                h = mix(h, part);
            d.code.push_back(i);
            node_register[id] = next++;
        }
        d.n_registers = next;
        d.output = next - 1;
        u.shape = h;
        return d;
    };
    std::vector<Draft> drafts(units.size());
    for (std::uint32_t u : by_root) drafts[u] = draft_of(units[u]);

    // 4. Units of one level and shape become the instances of one kernel; single ones are joined into straight scalar code.
    std::stable_sort(by_root.begin(), by_root.end(), [&](std::uint32_t a, std::uint32_t b) {
        if (units[a].level != units[b].level) return units[a].level < units[b].level;
        return units[a].shape < units[b].shape;
    });
    auto same_code = [](const Draft& a, const Draft& b) {
        return a.inputs.size() == b.inputs.size() && a.arguments == b.arguments &&
               std::equal(a.code.begin(), a.code.end(), b.code.begin(), b.code.end(), [](const Instruction& x, const Instruction& y) {
                   return x.op == y.op && x.flag == y.flag && x.a == y.a && x.b == y.b && x.c == y.c;
               });
    };
    Kernel straight;
    auto close_straight = [&] {
        if (!straight.code.empty()) program.kernels.push_back(std::move(straight));
        straight = {};
    };
    constexpr std::size_t kFewest = 8;  ///< fewer instances than this run as scalar code
    std::size_t begin = 0;
    while (begin < by_root.size()) {
        std::size_t end = begin + 1;
        const Unit_& first = units[by_root[begin]];
        while (end < by_root.size() && units[by_root[end]].level == first.level && units[by_root[end]].shape == first.shape &&
               same_code(drafts[by_root[begin]], drafts[by_root[end]]))
            ++end;
        if (end - begin < kFewest) {
            for (std::size_t k = begin; k < end; ++k) {
                const Draft& d = drafts[by_root[k]];
                std::vector<std::uint32_t> where(d.n_registers);
                for (std::size_t i = 0; i < d.inputs.size(); ++i) where[i] = d.inputs[i];
                for (Instruction i : d.code) {
                    std::uint32_t target = i.to == d.output ? place.at(units[by_root[k]].root) : new_place();
                    where[i.to] = target;
                    i.to = target;
                    if (i.op == Op::call) {
                        auto from = d.arguments.begin() + i.b;
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
        } else {
            close_straight();
            Kernel kernel;
            const Draft& d = drafts[by_root[begin]];
            kernel.n_instances = static_cast<std::uint32_t>(end - begin);
            kernel.n_inputs = static_cast<std::uint32_t>(d.inputs.size());
            kernel.n_registers = d.n_registers;
            kernel.code = d.code;
            kernel.arguments = d.arguments;
            kernel.inputs.resize(static_cast<std::size_t>(kernel.n_inputs) * kernel.n_instances);
            kernel.output_registers = {d.output};
            kernel.outputs.resize(kernel.n_instances);
            for (std::size_t k = begin; k < end; ++k) {
                for (std::size_t i = 0; i < d.inputs.size(); ++i) kernel.inputs[i * kernel.n_instances + (k - begin)] = drafts[by_root[k]].inputs[i];
                kernel.outputs[k - begin] = place.at(units[by_root[k]].root);
            }
            program.kernels.push_back(std::move(kernel));
        }
        begin = end;
    }
    close_straight();
    for (NodeId r : roots) program.results.push_back(is_leaf(r) ? place_of_leaf(r) : place.at(r));
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
