// SPDX-License-Identifier: Apache-2.0
#include "figures/diagram.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <functional>
#include <map>
#include <optional>
#include <set>
#include <tuple>

#include "base/diagnostics.hpp"
#include "base/markup.hpp"
#include "figures/palette.hpp"
#include "figures/picture_file.hpp"
#include "files/input_file.hpp"
#include "files/output_file.hpp"
#include "model/check_units.hpp"
#include "netloop/recording.hpp"

namespace netloop {
namespace {

const DomainLine& line_of(const Definition* domain)
{
    if (domain != nullptr)
        for (const DomainLine& l : kDomainLines)
            if (domain->name == l.domain) return l;
    return kOtherLine;
}

std::string dot_text(const std::string& text)
{
    std::string out = "\"";
    for (char c : text) out += c == '"' || c == '\\' ? std::string("\\") + c : std::string(1, c);
    return out + "\"";
}
std::string shortened(const std::string& text, std::size_t most)
{
    return text.size() <= most ? text : text.substr(0, most - 3) + "...";
}

class Drawer {
public:
    Drawer(LibrarySet& set, const DiagramRequest& request) : set_(set), request_(request) {}

    std::string whole(const Definition& d)
    {
        inside(d, "", 1);
        for (const std::string& o : request_.open) {
            if (o == "*" || std::find(boxes_.begin(), boxes_.end(), o) != boxes_.end()) continue;
            std::string near = nearest_name(o, boxes_);
            throw UsageError(fmt::format("'{}' has no part '{}' to open{}", d.full_name, o, near.empty() ? "" : "; did you mean '" + near + "'?"));
        }
        return fmt::format(
            "digraph diagram {{\n  graph [rankdir=LR, compound=true, splines=true, nodesep=0.35, ranksep=0.7, fontname=\"DejaVu Sans\", label=<<b>{}</b>>, "
            "labelloc=t, "
            "fontsize=15, bgcolor=\"#ffffff\"]\n  node "
            "[shape=box, style=\"rounded,filled\", fillcolor=\"#f4f1ea\", color=\"#6b6557\", fontname=\"DejaVu Sans\", fontsize=11, margin=\"0.12,0.07\"]\n  "
            "edge [fontname=\"DejaVu Sans\", fontsize=8, "
            "fontcolor=\"#444444\", arrowhead=none, labeldistance=1.6, labelangle=-22]\n{}{}}}\n",
            markup(d.full_name), nodes_, edges_);
    }

private:
    // What holds an opened part is open, too.
    bool is_open(const std::string& path) const
    {
        return std::any_of(request_.open.begin(), request_.open.end(),
                           [&](const std::string& o) { return o == path || o.starts_with(path + ".") || (o == "*" && path.find('.') == std::string::npos); });
    }

    void put(const std::string& text, int level) { nodes_ += std::string(static_cast<std::size_t>(2 * level), ' ') + text + "\n"; }

    // The statements of a component, those inside of loops and branches too.
    static void walk(const std::vector<BodyItem>& items, const std::function<void(const Statement&, const FileScope&)>& visit)
    {
        std::function<void(const Statement&, const FileScope&)> one = [&](const Statement& s, const FileScope& scope) {
            visit(s, scope);
            auto block = [&](const Block& b) {
                for (const Statement* inner : b) one(*inner, scope);
            };
            if (const auto* f = s.as<ForDecl>()) block(f->body);
            if (const auto* i = s.as<IfDecl>()) block(i->then_block), block(i->else_block);
        };
        for (const BodyItem& i : items) one(*i.statement, *i.scope);
    }

    void box(const std::string& path, const std::string& name, const std::string& count, const Path& kind, const std::vector<NamedValue>& values,
             const FileScope& scope, int level)
    {
        boxes_.push_back(path);
        const Definition* d = set_.find(scope, kind, true);
        if (is_open(path) && d != nullptr && d->as<ComponentDecl>() != nullptr) {
            put(fmt::format("subgraph {} {{", dot_text("cluster_" + path)), level);
            put(fmt::format("graph [label=<<b>{}</b> <font point-size=\"9\">{}</font>>, style=rounded, color=\"#9a9484\", fontsize=11, labelloc=t]",
                            markup(name), markup(text_of(kind))),
                level + 1);
            inside(*d, path, level + 1);
            put("}", level);
            return;
        }
        std::string label =
            fmt::format("<b>{}{}</b><br/><font point-size=\"9\" color=\"#555555\">{}</font>", markup(name), markup(count), markup(text_of(kind)));
        std::size_t shown = 0;
        for (const NamedValue& v : values) {
            if (!request_.values || v.value == nullptr || shown == 4) continue;
            label += fmt::format("<br/><font point-size=\"8\">{} = {}</font>", markup(text_of(v.path)), markup(shortened(text_of(*v.value), 28)));
            ++shown;
        }
        put(fmt::format("{} [label=<{}>]", dot_text(path), label), level);
    }

    void inside(const Definition& d, const std::string& prefix, int level)
    {
        const ComponentInfo* info = set_.info(d);
        if (info == nullptr) return;
        auto full = [&](const std::string& name) { return prefix.empty() ? name : prefix + "." + name; };
        // 1. parts, slots and own ports
        std::set<std::string> parts;
        walk(info->items, [&](const Statement& s, const FileScope& scope) {
            if (const auto* p = s.as<PartDecl>(); p != nullptr && parts.insert(p->name).second)
                box(full(p->name), p->name, p->size != nullptr ? "[" + text_of(*p->size) + "]" : "", p->kind.kind, p->kind.values, scope, level);
            if (const auto* p = s.as<SlotDecl>(); p != nullptr && parts.insert(p->name).second)
                box(full(p->name), p->name + " (slot)", "", p->kind.kind, p->kind.values, scope, level);
            if (const auto* p = s.as<PortDecl>())
                put(fmt::format("{} [shape=circle, label=\"\", xlabel={}, width=0.12, fixedsize=true, fillcolor=\"#ffffff\", fontsize=8]",
                                dot_text(full(p->name) + "#port"), dot_text(p->name)),
                    level);
            if (const auto* q = s.as<QuantityDecl>(); q != nullptr && is_signal(*info, q->name)) {
                signals_.insert(full(q->name));
                put(fmt::format("{} [shape=square, label=\"\", xlabel={}, width=0.1, fixedsize=true, style=filled, fillcolor=\"#ffffff\", color=\"#8a8a8a\", "
                                "fontsize=8]",
                                dot_text(full(q->name) + "#signal"), dot_text(q->name)),
                    level);
            }
        });
        // 2. joints: two ends are a line, more meet in a point
        int number = 0;
        walk(info->items, [&](const Statement& s, const FileScope&) {
            if (const auto* j = s.as<JointDecl>()) joint(*j, *info, prefix, full("joint" + std::to_string(++number)), parts, level);
            if (const auto* g = s.as<SignalDecl>()) signal(*g, *info, prefix, parts);
        });
    }

    struct End {
        std::string node, label;
    };
    // Where a joint's end is drawn: a box with the port's name, the ring of an own port, or the point of a named joint.
    End end_of(const Expr& e, const ComponentInfo& info, const std::string& prefix, const std::set<std::string>& parts) const
    {
        auto full = [&](const std::string& name) { return prefix.empty() ? name : prefix + "." + name; };
        const std::string& first = e.path.at(0).name;
        if (parts.contains(first) && e.path.size() >= 2) {
            std::string port = e.path[1].name;
            if (is_open(full(first))) return {full(first) + "." + port + "#port", ""};
            return {full(first), port};
        }
        const Member* m = info.find(first);
        if (m != nullptr && m->statement->as<JointDecl>() != nullptr) return {full(first) + "#joint", ""};
        return {full(first) + "#port", ""};
    }

    void joint(const JointDecl& j, const ComponentInfo& info, const std::string& prefix, const std::string& unnamed, const std::set<std::string>& parts,
               int level)
    {
        const Definition* domain = nullptr;
        for (const Expr* e : j.ports)
            if (domain == nullptr && e->kind == ExprKind::path) domain = domain_of_port(set_, info, *e);
        const DomainLine& line = line_of(domain);
        std::string tag = *line.tag != 0 ? line.tag : domain != nullptr ? domain->name : "";
        std::string look = fmt::format("color=\"{}\", style={}, penwidth={:.1f}", line.colour, line.style, line.width);
        std::vector<End> ends;
        for (const Expr* e : j.ports)
            if (e->kind == ExprKind::path && e->args.empty()) ends.push_back(end_of(*e, info, prefix, parts));
        if (j.name.empty() && ends.size() == 2) {
            edges_ += fmt::format("  {} -> {} [{}, label={}, taillabel={}, headlabel={}]\n", dot_text(ends[0].node), dot_text(ends[1].node), look,
                                  dot_text(tag), dot_text(ends[0].label), dot_text(ends[1].label));
            return;
        }
        std::string point = j.name.empty() ? unnamed + "#joint" : (prefix.empty() ? j.name : prefix + "." + j.name) + "#joint";
        put(fmt::format("{} [shape=point, width=0.09, color=\"{}\", xlabel={}, fontsize=8, fontcolor=\"#444444\"]", dot_text(point), line.colour,
                        dot_text(j.name.empty() ? tag : j.name + " (" + tag + ")")),
            level);
        // ends before the point lie to its left, the others to its right: short lines
        for (std::size_t k = 0; k < ends.size(); ++k) {
            if (ends[k].node == point) continue;
            bool left = 2 * k < ends.size();
            edges_ += left ? fmt::format("  {} -> {} [{}, taillabel={}]\n", dot_text(ends[k].node), dot_text(point), look, dot_text(ends[k].label))
                           : fmt::format("  {} -> {} [{}, headlabel={}]\n", dot_text(point), dot_text(ends[k].node), look, dot_text(ends[k].label));
        }
    }

    // What an expression reads, each once: quantities of parts, and inputs of the component that holds it.
    void sources_in(const Expr& e, const std::set<std::string>& parts, const ComponentInfo& info, std::vector<const Expr*>& found) const
    {
        if ((e.kind == ExprKind::path || e.kind == ExprKind::is_stage) && !e.path.empty()) {
            bool same = std::any_of(found.begin(), found.end(), [&](const Expr* f) {
                return f->path[0].name == e.path[0].name && (f->path.size() > 1 ? f->path[1].name : "") == (e.path.size() > 1 ? e.path[1].name : "");
            });
            if (!same && (parts.contains(e.path[0].name) || is_signal(info, e.path[0].name))) found.push_back(&e);
        }
        for (const Expr* a : e.args) sources_in(*a, parts, info, found);
    }

    static bool is_signal(const ComponentInfo& info, const std::string& name)
    {
        const Member* m = info.find(name);
        const auto* q = m == nullptr ? nullptr : m->statement->as<QuantityDecl>();
        return q != nullptr && (q->kind == QuantityKind::input || q->kind == QuantityKind::output);
    }

    // Where a signal begins or ends: a box, the small square of an opened part's input or output, or the edge of the opened part.
    struct SignalEnd {
        std::string node, cluster;
        bool operator<(const SignalEnd& o) const { return std::tie(node, cluster) < std::tie(o.node, o.cluster); }
    };
    SignalEnd signal_end(const Expr& e, const std::string& prefix) const
    {
        std::string first = (prefix.empty() ? "" : prefix + ".") + e.path[0].name;
        if (signals_.contains(first)) return {first + "#signal", ""};
        if (!is_open(first)) return {first, ""};
        std::string inner = e.path.size() > 1 ? first + "." + e.path[1].name : first;
        if (signals_.contains(inner)) return {inner + "#signal", ""};
        auto anchor = std::find_if(boxes_.begin(), boxes_.end(), [&](const std::string& b) { return b.starts_with(first + ".") && !is_open(b); });
        return anchor == boxes_.end() ? SignalEnd{} : SignalEnd{*anchor, "cluster_" + first};
    }

    void signal(const SignalDecl& g, const ComponentInfo& info, const std::string& prefix, const std::set<std::string>& parts)
    {
        std::vector<const Expr*> sources;
        sources_in(*g.source, parts, info, sources);
        for (const Expr* t : g.targets) {
            if (t->kind != ExprKind::path) continue;
            bool own = t->path.size() == 1 && is_signal(info, t->path[0].name);
            if (!own && (t->path.size() < 2 || !parts.contains(t->path[0].name))) continue;
            SignalEnd to = signal_end(*t, prefix);
            std::set<SignalEnd> drawn;
            for (const Expr* s : sources) {
                SignalEnd from = signal_end(*s, prefix);
                if (from.node.empty() || to.node.empty() || !drawn.insert(from).second) continue;
                std::string more = from.cluster.empty() ? "" : fmt::format(", ltail={}", dot_text(from.cluster));
                if (!to.cluster.empty()) more += fmt::format(", lhead={}", dot_text(to.cluster));
                if (!to.node.ends_with("#signal")) more += fmt::format(", headlabel={}", dot_text(t->path[1].name));
                edges_ += fmt::format("  {} -> {} [color=\"#8a8a8a\", style=solid, penwidth=0.9, arrowhead=vee, arrowsize=0.6, constraint=false{}]\n",
                                      dot_text(from.node), dot_text(to.node), more);
            }
        }
    }

    LibrarySet& set_;
    const DiagramRequest& request_;
    std::string nodes_, edges_;
    std::vector<std::string> boxes_;  ///< paths of the parts drawn
    std::set<std::string> signals_;   ///< paths of the inputs and outputs drawn
};

}  // namespace

std::string diagram_text(const Library& library, const DiagramRequest& request)
{
    std::optional<LibraryWork> work(library.set());
    const Definition* d = library.set().find_by_text(request.name);
    if (d == nullptr || d->as<ComponentDecl>() == nullptr) {
        work.reset();
        (void)library.describe(request.name);  // tells the nearest name
        throw UsageError(fmt::format("'{}' is no system or component: there is nothing to draw", request.name));
    }
    return Drawer(library.set(), request).whole(*d);
}

namespace {
bool is_description(const std::string& path)
{
    return first_bytes(path, 64).find("graph") != std::string::npos;
}
}  // namespace

void draw_diagram(const Library& library, const DiagramRequest& request)
{
    std::string form = picture_form(request.out);
    if (form != ".svg" && form != ".png" && form != ".pdf" && form != ".dot")
        throw RecordingError(fmt::format("'{}': a diagram is written as .svg, .png, .pdf or .dot", request.out));
    std::string text = diagram_text(library, request);
    if (form == ".dot") return write_whole(request.out, text, {.what = "a diagram's description", .replaces = is_description, .inputs = library.files_read()});
    draw_by(
        "dot",
        [&](const std::string& unfinished) {
            return std::vector<std::string>{"-T" + form.substr(1), "-o" + unfinished};
        },
        [&](const std::string&) { return text; }, request.out, library.files_read());
}

}  // namespace netloop
