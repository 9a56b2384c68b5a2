// SPDX-License-Identifier: Apache-2.0
#include "api/page.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <sstream>
#include <string_view>

#include "api/internal.hpp"
#include "model/check_units.hpp"

namespace netloop {
namespace {

std::string joined_lines(const std::string& text)
{
    std::string line;
    for (char c : text) line += c == '\n' ? ' ' : c;
    while (!line.empty() && line.back() == ' ') line.pop_back();
    return line;
}

// The text of a definition: what it is, then in lines that begin so what it has `Neglected:`, its `Source:`, an `Example:`, and what may stand `Instead:`.
void take_text(const std::string& doc, Page& page)
{
    std::string *to = &page.purpose, line, unseen;  // how it is drawn in a report, and what it was called, is no text for readers
    std::istringstream in(doc);
    bool verbatim = false;
    while (std::getline(in, line)) {
        for (auto [mark, field] : {std::pair{"Neglected:", &page.neglected},
                                   {"Source:", &page.origin},
                                   {"Example:", &page.example},
                                   {"Instead:", &page.instead},
                                   {"Picture:", &unseen},
                                   {"Formerly:", &unseen}}) {
            if (line.rfind(mark, 0) != 0) continue;
            to = field;
            verbatim = field == &page.example;
            line.erase(0, std::string_view(mark).size());
            line.erase(0, line.find_first_not_of(' '));
            break;
        }
        bool paragraph = to->ends_with("\n\n");
        if (line.empty() && !to->empty() && !paragraph && !verbatim)
            *to += "\n\n";
        else
            *to += (to->empty() || paragraph ? "" : verbatim ? "\n" : " ") + line;
    }
}

class PageMaker {
public:
    PageMaker(LibrarySet& set, const Definition& d) : set_(set), d_(d) {}

    Page make()
    {
        page_.name = d_.full_name;
        page_.kind = kind_of(d_);
        take_text(d_.statement->doc, page_);
        if (d_.as<ComponentDecl>() != nullptr || d_.as<FluidDecl>() != nullptr) {
            component();
        } else if (const auto* domain = d_.as<DomainDecl>()) {
            members(*domain);
        } else if (d_.as<CatalogueDecl>() != nullptr) {
            PageSection& entries = section("entries");
            for (const Definition* e : d_.entries) entries.rows.push_back({e->name, "", text_of(e->as<ComponentDecl>()->takes[0].kind), "", e->statement->doc});
        } else {
            section("definition").equations.push_back({std::string(set_.sources.text(d_.statement->span)), ""});
        }
        std::erase_if(page_.sections, [](const PageSection& s) { return s.rows.empty() && s.equations.empty(); });
        return std::move(page_);
    }

private:
    PageSection& section(const char* title)
    {
        page_.sections.push_back({title, {}, {}});
        return page_.sections.back();
    }

    void members(const DomainDecl& domain)
    {
        PageSection& s = section("quantities");
        for (const DomainMember& m : domain.members) {
            const char* kind = m.kind == DomainMember::Kind::shared     ? "shared"
                               : m.kind == DomainMember::Kind::zero_sum ? "zero sum"
                               : m.kind == DomainMember::Kind::carried  ? "carried"
                                                                        : "fluid";
            std::string with = m.kind == DomainMember::Kind::carried
                                   ? fmt::format(" (along {}{})", m.along, m.condition != nullptr ? ", if " + brief(*m.condition) : "")
                                   : std::string();
            s.rows.push_back({m.name, m.unit ? m.unit->text : "", kind, "", m.doc + with});
        }
    }

    // Declarations grouped by kind, in the order of the text, with what was taken over first.
    void component()
    {
        info_ = set_.info(d_);
        for (const Definition* a : info_->ancestry)
            if (a != &d_) page_.takes_over.push_back(a->full_name);
        if (const auto* entry = d_.as<ComponentDecl>(); entry != nullptr && entry->entry) {
            PageSection& values = section("values of this entry");
            for (const NamedValue& v : entry->takes[0].values)
                values.rows.push_back({text_of(v.path), "", "", v.value != nullptr ? brief(*v.value) : text_of(v.put->kind), ""});
            for (const TableFile& t : entry->tables) values.rows.push_back({t.name, "", "", t.file, ""});
        }
        PageSection& ports = section("ports");
        for (const BodyItem& i : info_->items)
            if (const auto* p = i.statement->as<PortDecl>())
                ports.rows.push_back({p->name, "", text_of(p->domain) + (p->fluids.empty() ? "" : "(" + p->fluids[0] + ")"),
                                      p->needed                  ? "must be joined"
                                      : p->optional              ? "may stay open"
                                      : p->open_value != nullptr ? "open: " + p->open_name + " = " + brief(*p->open_value)
                                                                 : "",
                                      i.statement->doc});
        PageSection& open = section("units that each use settles");
        for (const BodyItem& i : info_->items)
            if (const auto* u = i.statement->as<OpenUnitDecl>()) open.rows.push_back({u->name, "", "", "", joined_lines(i.statement->doc)});
        for (auto [kind, title] : {std::pair{QuantityKind::param, "params"},
                                   {QuantityKind::option, "options"},
                                   {QuantityKind::input, "inputs"},
                                   {QuantityKind::output, "outputs"},
                                   {QuantityKind::constant, "constants"},
                                   {QuantityKind::var, "unknowns"},
                                   {QuantityKind::let, "lets"},
                                   {QuantityKind::memory, "memories"}}) {
            PageSection& s = section(title);
            for (const BodyItem& i : info_->items) quantity(i, kind, s);
        }
        PageSection& parts = section("parts");
        for (const BodyItem& i : info_->items)
            if (i.statement->as<PartDecl>() != nullptr || i.statement->as<SlotDecl>() != nullptr) parts.equations.push_back({source(i), ""});
        // a unit from elsewhere: how it is asked is nobody's model
        bool outside = false;
        for (const BodyItem& i : info_->items)
            if (const auto* f = i.statement->as<FunctionDecl>()) outside = outside || set_.outside(*f) != nullptr;
        if (outside) return;
        functions(section("functions"));
        PageSection& equations = section("equations");
        for (const BodyItem& i : info_->items) equation(i, equations);
        PageSection& moments = section("at moments");
        for (const BodyItem& i : info_->items) {
            const Statement& s = *i.statement;
            if (s.as<WhenDecl>() != nullptr || s.as<EveryDecl>() != nullptr || s.as<SequenceDecl>() != nullptr) moments.equations.push_back({source(i), ""});
        }
    }

    void functions(PageSection& to)
    {
        for (const BodyItem& i : info_->items) {
            const auto* f = i.statement->as<FunctionDecl>();
            if (f == nullptr || info_->find(f->name)->statement != i.statement) continue;  // announced only: what fills it in follows
            auto with_unit = [](const FunctionArgument& a) { return a.name + (a.unit ? fmt::format("{}[{}]", a.name.empty() ? "" : " ", a.unit->text) : ""); };
            std::string arguments, results;
            for (const FunctionArgument& a : f->arguments) arguments += (arguments.empty() ? "" : ", ") + with_unit(a);
            for (const FunctionArgument& r : f->results) results += (results.empty() ? "" : ", ") + with_unit(r);
            to.rows.push_back({fmt::format("{}({})", f->name, arguments), "", "-> " + results, "", joined_lines(function_text(*info_, f->name))});
            // of a component: its law is a part of what the component does
            if (d_.as<ComponentDecl>() != nullptr && f->body && !f->body->empty()) to.equations.push_back({source(i), ""});
        }
    }

    void quantity(const BodyItem& i, QuantityKind kind, PageSection& to)
    {
        const auto* q = i.statement->as<QuantityDecl>();
        if (q == nullptr || q->kind != kind || q->name.front() == '_') return;
        PageRow row;
        row.name = q->name + (q->sizes.empty() ? "" : "[" + text_of(*q->sizes[0]) + "]");
        row.unit = q->unit ? q->unit->text : q->type == ValueType::boolean ? "bool" : q->type == ValueType::integer ? "int" : "";
        for (const std::string& c : q->choices) row.range += (row.range.empty() ? "" : ", ") + c;
        // the value that the component itself gives to what it takes over
        const Expr* value = q->value;
        for (const auto& [given, scope] : info_->values)
            if (given.path.size() == 1 && given.path[0].name == q->name) value = given.value;
        if (value != nullptr)
            row.value = text_of(*value);
        else if (kind == QuantityKind::param)
            row.value = "(must be given)";
        if (q->init != nullptr) row.value += (row.value.empty() ? "init " : ", init ") + text_of(*q->init);
        if (q->guess != nullptr) row.value += (row.value.empty() ? "guess " : ", guess ") + text_of(*q->guess);
        if (q->low != nullptr) row.range = text_of(*q->low) + " .. " + text_of(*q->high);
        row.text = joined_lines(i.statement->doc);
        to.rows.push_back(std::move(row));
    }

    void equation(const BodyItem& i, PageSection& to)
    {
        const Statement& s = *i.statement;
        const auto* e = s.as<EquationDecl>();
        if (e == nullptr && s.as<SignalDecl>() == nullptr && s.as<JointDecl>() == nullptr && s.as<IfDecl>() == nullptr && s.as<ForDecl>() == nullptr &&
            s.as<GuessDecl>() == nullptr)
            return;
        std::string text = source(i);
        if (text.empty() && e != nullptr) text = (e->init ? "init " : "") + text_of(*e->left) + " = " + text_of(*e->right);  // made by a program
        if (text.empty()) return;
        std::string formula;
        if (e != nullptr && !e->init) formula = latex_of(*e->left) + " = " + latex_of(*e->right);
        to.equations.push_back({text, formula});
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
    const ComponentInfo* info_ = nullptr;
    Page page_;
};

}  // namespace

std::string kind_of(const Definition& d)
{
    if (const auto* c = d.as<ComponentDecl>()) return c->system ? "system" : c->base ? "base component" : "component";
    if (const auto* f = d.as<FluidDecl>()) return f->base ? "base fluid" : "fluid";
    if (d.as<DomainDecl>()) return "domain";
    if (d.as<FunctionDecl>()) return "function";
    if (d.as<TableDecl>()) return "table";
    if (d.as<FluidUseDecl>()) return "fluid";
    if (d.as<ScenarioDecl>()) return "scenario";
    if (d.as<CatalogueDecl>()) return "catalogue";
    if (d.as<StudyDecl>()) return "study";
    return "constant";
}

std::string function_text(const ComponentInfo& info, const std::string& name)
{
    std::string text;
    for (const BodyItem& i : info.items)
        if (const auto* f = i.statement->as<FunctionDecl>(); f != nullptr && f->name == name && !i.statement->doc.empty()) text = i.statement->doc;
    return text;
}

Page make_page(LibrarySet& set, const Definition& definition)
{
    return PageMaker(set, definition).make();
}

}  // namespace netloop
