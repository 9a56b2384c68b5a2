#include "show/diagram.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <functional>
#include <map>
#include <set>

#include "model/check_units.hpp"
#include "netloop/recording.hpp"
#include "show/picture_file.hpp"

namespace netloop {
namespace {

// A domain's line: colour from a palette that people with a colour weakness tell apart, style, and the tag that is written on it.
struct Line {
    const char *domain, *colour, *style, *tag;
    double width;
};
constexpr Line kLines[] = {{"hydraulic", "#1b6ca8", "solid", "hydr", 2.4}, {"gas", "#17838c", "dashed", "gas", 2.4},
                           {"thermal", "#d81e7f", "dotted", "heat", 2.4},  {"electrical", "#b8860b", "solid", "el", 1.2},
                           {"rotational", "#2a9134", "bold", "rot", 3.2},  {"translational", "#7a4419", "dashed", "lin", 3.2},
                           {"planar", "#8e44ad", "dashed", "plane", 1.6}};
constexpr Line kOther = {"", "#555555", "solid", "", 1.6};

const Line& line_of(const Definition* domain)
{
    if (domain != nullptr)
        for (const Line& l : kLines)
            if (domain->name == l.domain) return l;
    return kOther;
}

std::string html(const std::string& text)
{
    std::string out;
    for (char c : text) out += c == '<' ? "&lt;" : c == '>' ? "&gt;" : c == '&' ? "&amp;" : std::string(1, c);
    return out;
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
        return fmt::format(
            "digraph diagram {{\n  graph [rankdir=LR, splines=true, nodesep=0.35, ranksep=0.7, fontname=\"DejaVu Sans\", label=<<b>{}</b>>, labelloc=t, "
            "fontsize=15, bgcolor=\"#ffffff\"]\n  node "
            "[shape=box, style=\"rounded,filled\", fillcolor=\"#f4f1ea\", color=\"#6b6557\", fontname=\"DejaVu Sans\", fontsize=11, margin=\"0.12,0.07\"]\n  "
            "edge [fontname=\"DejaVu Sans\", fontsize=8, "
            "fontcolor=\"#444444\", arrowhead=none, labeldistance=1.6, labelangle=-22]\n{}{}}}\n",
            html(d.full_name), nodes_, edges_);
    }

private:
    bool is_open(const std::string& path) const
    {
        for (const std::string& o : request_.open)
            if (o == path || (o == "*" && path.find('.') == std::string::npos)) return true;
        return false;
    }

    void put(const std::string& text, int level) { nodes_ += std::string(static_cast<std::size_t>(2 * level), ' ') + text + "\n"; }

    // The statements of a component, those inside of loops and branches too.
    void walk(const std::vector<BodyItem>& items, const std::function<void(const Statement&, const FileScope&)>& visit)
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
        const Definition* d = set_.find(scope, kind, true);
        if (is_open(path) && d != nullptr && d->as<ComponentDecl>() != nullptr) {
            put(fmt::format("subgraph {} {{", dot_text("cluster_" + path)), level);
            put(fmt::format("graph [label=<<b>{}</b> <font point-size=\"9\">{}</font>>, style=rounded, color=\"#9a9484\", fontsize=11, labelloc=t]", html(name),
                            html(text_of(kind))),
                level + 1);
            inside(*d, path, level + 1);
            put("}", level);
            return;
        }
        std::string label = fmt::format("<b>{}{}</b><br/><font point-size=\"9\" color=\"#555555\">{}</font>", html(name), html(count), html(text_of(kind)));
        std::size_t shown = 0;
        for (const NamedValue& v : values) {
            if (!request_.values || v.value == nullptr || shown == 4) continue;
            label += fmt::format("<br/><font point-size=\"8\">{} = {}</font>", html(text_of(v.path)), html(shortened(text_of(*v.value), 28)));
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
        if (parts.count(first) != 0 && e.path.size() >= 2) {
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
        const Line& line = line_of(domain);
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

    void parts_in(const Expr& e, const std::set<std::string>& parts, std::set<std::string>& found) const
    {
        if ((e.kind == ExprKind::path || e.kind == ExprKind::is_stage) && !e.path.empty() && parts.count(e.path[0].name) != 0) found.insert(e.path[0].name);
        for (const Expr* a : e.args) parts_in(*a, parts, found);
    }

    void signal(const SignalDecl& g, const ComponentInfo&, const std::string& prefix, const std::set<std::string>& parts)
    {
        auto full = [&](const std::string& name) { return prefix.empty() ? name : prefix + "." + name; };
        std::set<std::string> sources;
        parts_in(*g.source, parts, sources);
        for (const Expr* t : g.targets) {
            if (t->kind != ExprKind::path || t->path.size() < 2 || parts.count(t->path[0].name) == 0 || is_open(full(t->path[0].name))) continue;
            for (const std::string& s : sources)
                if (!is_open(full(s)))
                    edges_ +=
                        fmt::format("  {} -> {} [color=\"#8a8a8a\", style=solid, penwidth=0.9, arrowhead=vee, arrowsize=0.6, constraint=false, headlabel={}]\n",
                                    dot_text(full(s)), dot_text(full(t->path[0].name)), dot_text(t->path[1].name));
        }
    }

    LibrarySet& set_;
    const DiagramRequest& request_;
    std::string nodes_, edges_;
};

}  // namespace

std::string diagram_text(const Library& library, const DiagramRequest& request)
{
    const Definition* d = library.set().find_by_text(request.name);
    if (d == nullptr || d->as<ComponentDecl>() == nullptr) {
        (void)library.describe(request.name);  // tells the nearest name
        throw UsageError(fmt::format("'{}' is no system or component: there is nothing to draw", request.name));
    }
    return Drawer(library.set(), request).whole(*d);
}

void draw_diagram(const Library& library, const DiagramRequest& request)
{
    namespace fs = std::filesystem;
    std::string form = fs::path(request.out).extension().string();
    if (form != ".svg" && form != ".png" && form != ".pdf" && form != ".dot")
        throw RecordingError(fmt::format("'{}': a diagram is written as .svg, .png, .pdf or .dot", request.out));
    std::string text = diagram_text(library, request);
    if (form == ".dot") {
        std::ofstream out(request.out, std::ios::binary);
        if (!(out << text) || !out.flush()) throw RecordingError(fmt::format("'{}' cannot be written", request.out));
        return;
    }
    if (request.out.find('\'') != std::string::npos)
        throw RecordingError(fmt::format("'{}': a quotation mark cannot stand in the name of a diagram", request.out));
    draw_by("graphviz", fmt::format("dot -T{} -o '{}' 2>/dev/null", form.substr(1), unfinished_picture(request.out)), text, request.out);
}

}  // namespace netloop
