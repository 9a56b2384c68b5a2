// `list` and `describe`: what a definition is, as a person reads it.
#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <sstream>

#include "api/internal.hpp"
#include "model/check_units.hpp"

namespace netloop {
namespace {

std::string kind_of(const Definition& d)
{
    if (const auto* c = d.as<ComponentDecl>()) return c->system ? "system" : c->base ? "base component" : "component";
    if (const auto* f = d.as<FluidDecl>()) return f->base ? "base fluid" : "fluid";
    if (d.as<DomainDecl>()) return "domain";
    if (d.as<FunctionDecl>()) return "function";
    if (d.as<TableDecl>()) return "table";
    if (d.as<FluidUseDecl>()) return "fluid";
    if (d.as<ScenarioDecl>()) return "scenario";
    return "constant";
}

std::string first_sentence(const std::string& doc)
{
    std::string line;
    for (char c : doc) line += c == '\n' ? ' ' : c;
    std::size_t end = line.find(". ");
    while (end != std::string::npos && end > 0 && line[end - 1] == '.') end = line.find(". ", end + 1);  // a range: 0 .. 1
    if (end != std::string::npos) return line.substr(0, end + 1);
    return line;
}

std::string indented(const std::string& text, const std::string& by)
{
    std::istringstream in(text);
    std::string line, out;
    while (std::getline(in, line)) out += by + line + "\n";
    return out;
}

class Describer {
public:
    Describer(LibrarySet& set, const Definition& d) : set_(set), d_(d) {}

    std::string text()
    {
        out_ = fmt::format("{}   ({})\n", d_.full_name, kind_of(d_));
        std::string doc = d_.statement->doc, example;
        if (std::size_t at = doc.find("Example:"); at != std::string::npos) {
            example = doc.substr(at + 8);
            doc.resize(at);
        }
        if (!doc.empty()) out_ += indented(doc, "  ");
        if (d_.as<ComponentDecl>() != nullptr || d_.as<FluidDecl>() != nullptr)
            component();
        else if (const auto* domain = d_.as<DomainDecl>())
            members(*domain);
        else
            out_ += "\n" + indented(std::string(set_.sources.text(d_.statement->span)), "  ");
        if (!example.empty()) {
            while (!example.empty() && (example.front() == ' ' || example.front() == '\n')) example.erase(0, 1);
            out_ += "\nexample\n" + indented(example, "  ");
        }
        return out_;
    }

private:
    void members(const DomainDecl& domain)
    {
        for (const DomainMember& m : domain.members) {
            const char* kind = m.kind == DomainMember::Kind::shared     ? "shared"
                               : m.kind == DomainMember::Kind::zero_sum ? "zero sum"
                               : m.kind == DomainMember::Kind::carried  ? "carried"
                                                                        : "fluid";
            std::string with = m.kind == DomainMember::Kind::carried
                                   ? fmt::format(" (along {}{})", m.along, m.condition != nullptr ? ", if " + brief(*m.condition) : "")
                                   : std::string();
            out_ += fmt::format("  {:<9} {:<10} {:<8} {}{}\n", kind, m.name, m.unit ? "[" + m.unit->text + "]" : "", m.doc, with);
        }
    }

    void row(const std::string& name, const std::string& unit, const std::string& rest, const std::string& doc)
    {
        std::string flat = doc;
        std::replace(flat.begin(), flat.end(), '\n', ' ');
        std::string line = fmt::format("  {:<18} {:<12} {:<34} {}", name, unit, rest, flat);
        while (!line.empty() && line.back() == ' ') line.pop_back();
        out_ += line + "\n";
    }

    // Declarations grouped by kind, in the order of the text, with what was taken over first.
    void component()
    {
        const ComponentInfo* info = set_.info(d_);
        if (info->ancestry.size() > 1) {
            out_ += "  takes over:";
            for (const Definition* a : info->ancestry)
                if (a != &d_) out_ += " " + a->full_name;
            out_ += "\n";
        }
        std::vector<const BodyItem*> items;
        for (const BodyItem& i : info->items) items.push_back(&i);
        section("ports", items, [&](const BodyItem& i) {
            const auto* p = i.statement->as<PortDecl>();
            if (p == nullptr) return false;
            row(p->name, "",
                ": " + text_of(p->domain) + (p->fluids.empty() ? "" : "(" + p->fluids[0] + ")") +
                    (p->needed     ? " needed"
                     : p->optional ? " optional"
                                   : ""),
                i.statement->doc);
            return true;
        });
        for (auto [kind, title] : {std::pair{QuantityKind::param, "params"},
                                   {QuantityKind::option, "options"},
                                   {QuantityKind::input, "inputs"},
                                   {QuantityKind::output, "outputs"},
                                   {QuantityKind::constant, "constants"},
                                   {QuantityKind::var, "unknowns"},
                                   {QuantityKind::let, "lets"},
                                   {QuantityKind::memory, "memories"}}) {
            section(title, items, [&, wanted = kind](const BodyItem& i) { return quantity(i, wanted); });
        }
        section("parts", items, [&](const BodyItem& i) {
            const auto* p = i.statement->as<PartDecl>();
            if (p == nullptr) return false;
            out_ += "  " + source(i) + "\n";
            return true;
        });
        section("functions", items, [&](const BodyItem& i) {
            const auto* f = i.statement->as<FunctionDecl>();
            if (f == nullptr) return false;
            if (info->find(f->name)->statement != i.statement) return false;  // announced only; what fills it in follows
            auto with_unit = [](const FunctionArgument& a) { return a.name + (a.unit ? fmt::format("{}[{}]", a.name.empty() ? "" : " ", a.unit->text) : ""); };
            std::string arguments, results;
            for (const FunctionArgument& a : f->arguments) arguments += (arguments.empty() ? "" : ", ") + with_unit(a);
            for (const FunctionArgument& r : f->results) results += (results.empty() ? "" : ", ") + with_unit(r);
            std::string flat = function_text(*info, f->name);
            std::replace(flat.begin(), flat.end(), '\n', ' ');
            out_ += fmt::format("  {:<66}{}{}\n", fmt::format("{}({}) -> {}", f->name, arguments, results), flat.empty() ? "" : " ", flat);
            return true;
        });
        section("equations", items, [&](const BodyItem& i) { return equation(i); });
        section("at moments", items, [&](const BodyItem& i) {
            const Statement& s = *i.statement;
            if (!s.as<WhenDecl>() && !s.as<EveryDecl>() && !s.as<SequenceDecl>()) return false;
            out_ += indented(source(i), "  ");
            return true;
        });
    }

    template <typename Show>
    void section(const char* title, const std::vector<const BodyItem*>& items, Show show)
    {
        std::string before = out_;
        out_ += fmt::format("\n{}\n", title);
        bool any = false;
        for (const BodyItem* i : items) any |= show(*i);
        if (!any) out_ = before;
    }

    bool quantity(const BodyItem& i, QuantityKind kind)
    {
        const auto* q = i.statement->as<QuantityDecl>();
        if (q == nullptr || q->kind != kind) return false;
        std::string unit = q->unit ? "[" + q->unit->text + "]" : q->type == ValueType::boolean ? "bool" : "";
        std::string rest;
        if (q->type == ValueType::choice)
            for (const std::string& c : q->choices) rest += (rest.empty() ? "{" : ", ") + c;
        if (!rest.empty()) rest += "} ";
        // the value that the component itself gives to what it takes over
        const Expr* value = q->value;
        for (const auto& [given, scope] : set_.info(d_)->values)
            if (given.path.size() == 1 && given.path[0].name == q->name) value = given.value;
        if (value != nullptr)
            rest += "= " + text_of(*value);
        else if (kind == QuantityKind::param)
            rest += "(needed)";
        if (q->low != nullptr) rest += " in " + text_of(*q->low) + " .. " + text_of(*q->high);
        if (q->init != nullptr) rest += " init " + text_of(*q->init);
        if (q->guess != nullptr) rest += " guess " + text_of(*q->guess);
        row(q->name + (q->sizes.empty() ? "" : "[" + text_of(*q->sizes[0]) + "]"), unit, rest, i.statement->doc);
        return true;
    }

    bool equation(const BodyItem& i)
    {
        const Statement& s = *i.statement;
        bool shown = s.as<EquationDecl>() || s.as<SignalDecl>() || s.as<JointDecl>() || s.as<IfDecl>() || s.as<ForDecl>() || s.as<GuessDecl>();
        if (!shown) return false;
        std::string text = source(i);
        if (text.empty()) {  // made by a program
            if (const auto* e = s.as<EquationDecl>())
                text = (e->init ? "init " : "") + text_of(*e->left) + " = " + text_of(*e->right);
            else
                return false;
        }
        out_ += indented(text, "  ");
        return true;
    }

    std::string source(const BodyItem& i) const
    {
        std::string text(set_.sources.text(i.statement->span));
        while (!text.empty() && (text.back() == ' ' || text.back() == '\n' || text.back() == ';')) text.pop_back();
        // a statement of several lines keeps its inner layout, shifted to the left
        Position at = i.statement->span.known() ? set_.sources.position(i.statement->span) : Position{1, 1};
        std::string shifted;
        for (std::size_t k = 0; k < text.size(); ++k) {
            shifted += text[k];
            if (text[k] != '\n') continue;
            for (std::uint32_t skip = 1; skip < at.column && k + 1 < text.size() && text[k + 1] == ' '; ++skip) ++k;
        }
        return shifted;
    }

    LibrarySet& set_;
    const Definition& d_;
    std::string out_;
};

}  // namespace

std::string function_text(const ComponentInfo& info, const std::string& name)
{
    std::string text;
    for (const BodyItem& i : info.items)
        if (const auto* f = i.statement->as<FunctionDecl>(); f != nullptr && f->name == name && !i.statement->doc.empty()) text = i.statement->doc;
    return text;
}

std::vector<Library::Entry> Library::list(const std::string& package) const
{
    std::vector<Entry> entries;
    auto add = [&](const FileScope& f) {
        for (const Definition* d : f.definitions) entries.push_back({d->full_name, kind_of(*d), first_sentence(d->statement->doc)});
    };
    const Package* p = nullptr;
    if (!package.empty()) {
        p = set_->package(package);
        if (p == nullptr) {
            std::string near = nearest_name(package, packages());
            std::string all;
            for (const std::string& name : packages()) all += (all.empty() ? "" : ", ") + name;
            throw UsageError(
                fmt::format("no library is called '{}'; {}there are: {}", package, near.empty() ? "" : fmt::format("did you mean '{}'? ", near), all));
        }
    }
    for (const FileScope* f : set_->files_of(p)) add(*f);
    return entries;
}

std::vector<Library::Entry> Library::find(const std::string& words) const
{
    auto lower = [](std::string text) {
        std::transform(text.begin(), text.end(), text.begin(), [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
        return text;
    };
    std::vector<std::string> wanted;
    std::istringstream in(lower(words));
    for (std::string word; in >> word;) wanted.push_back(word);
    std::vector<std::pair<std::size_t, Entry>> found;
    auto look = [&](const FileScope& f) {
        for (const Definition* d : f.definitions) {
            std::string name = lower(d->full_name), text = name + " " + lower(d->statement->doc);
            std::size_t in_name = 0;
            bool all = !wanted.empty();
            for (const std::string& w : wanted) {
                bool begins = false;
                for (std::size_t at = text.find(w); at != std::string::npos && !begins; at = text.find(w, at + 1))
                    begins = at == 0 || std::isalnum(static_cast<unsigned char>(text[at - 1])) == 0 || at < name.size();
                all &= begins;
                in_name += name.find(w) != std::string::npos ? 1 : 0;
            }
            if (all) found.emplace_back(in_name, Entry{d->full_name, kind_of(*d), first_sentence(d->statement->doc)});
        }
    };
    for (const std::string& p : packages())
        for (const FileScope* f : set_->files_of(set_->package(p))) look(*f);
    for (const FileScope* f : set_->files_of(nullptr)) look(*f);
    std::stable_sort(found.begin(), found.end(), [](const auto& a, const auto& b) { return a.first > b.first; });
    std::vector<Entry> entries;
    for (auto& [n, e] : found) entries.push_back(std::move(e));
    return entries;
}

std::string Library::describe(const std::string& name) const
{
    const Definition* d = set_->find_by_text(name);
    if (d == nullptr) {
        std::vector<std::string> names;
        for (const std::string& p : packages())
            for (const auto& [n, def] : set_->package(p)->names) names.push_back(p + "." + n);
        for (const FileScope* f : set_->files_of(nullptr))
            for (const auto& [n, def] : f->names) names.push_back(n);
        std::string near = nearest_name(name, names);
        for (const std::string& full : names)
            if (near.empty() && full.ends_with("." + name)) near = full;
        throw UsageError(fmt::format("nothing is called '{}'{}", name, near.empty() ? "" : fmt::format("; did you mean '{}'?", near)));
    }
    return Describer(*set_, *d).text();
}

}  // namespace netloop
