// SPDX-License-Identifier: Apache-2.0
#include "runs/advice_structure.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <optional>
#include <sstream>

#include "api/internal.hpp"

namespace netloop {
namespace {

using Change = Advice::Change;

// "ReliefValve, where the travel of the spool does not matter" in the text of a definition.
std::string named_instead(const Definition& d)
{
    std::istringstream doc(d.statement->doc);
    for (std::string line; std::getline(doc, line);) {
        constexpr std::string_view kMark = "Instead:";
        if (!line.starts_with(kMark)) continue;
        std::size_t begin = line.find_first_not_of(' ', kMark.size());
        if (begin == std::string::npos) return {};
        return line.substr(begin, line.find_first_of(" ,.", begin) - begin);
    }
    return {};
}

const FlatParameter* param_of(const FlatModel& flat, const std::string& path)
{
    auto it = std::find_if(flat.parameters.begin(), flat.parameters.end(), [&](const FlatParameter& p) { return p.path == path; });
    return it == flat.parameters.end() ? nullptr : &*it;
}

const FlatOption* option_of(const FlatModel& flat, const std::string& path)
{
    auto it = std::find_if(flat.options.begin(), flat.options.end(), [&](const FlatOption& o) { return o.path == path; });
    return it == flat.options.end() ? nullptr : &*it;
}

// What the other kind has by itself, where it can be had without being given anything.
struct ByItself {
    std::optional<CompiledSystem> system;
    std::optional<Run> run;

    bool has(const std::string& path, double si)
    {
        constexpr double kSame = 1e-12;
        if (!run) return false;
        try {
            double own = run->value(system->param(path));
            return std::abs(own - si) <= kSame * std::abs(si);
        } catch (const Error&) {
            return false;
        }
    }
    bool has(const std::string& path, const std::string& option) const
    {
        const FlatOption* o = system ? option_of(SystemAccess::data(*system)->model->form.flat(), path) : nullptr;
        return o != nullptr && o->value == option;
    }
};

// "hydraulics.ReliefValve(cracking = 120 bar, override = 5 bar)": with the values that the part has now of what both know, and that it would not have anyway.
std::string as_it_stands(LibrarySet& set, const Definition& kind, const std::string& part, const CompiledSystem& system, Run& run, ByItself by_itself)
{
    const FlatModel& flat = SystemAccess::data(system)->model->form.flat();
    std::string values;
    auto give = [&](const std::string& name, const std::string& value) { values += fmt::format("{}{} = {}", values.empty() ? "" : ", ", name, value); };
    const ComponentInfo* info = set.info(kind);
    for (const std::string& name : info->member_names) {
        const auto* q = info->find(name)->statement->as<QuantityDecl>();
        if (q == nullptr || !q->sizes.empty()) continue;
        const std::string path = part + "." + name;
        if (q->kind == QuantityKind::option) {
            const FlatOption* o = option_of(flat, path);
            if (o != nullptr && !by_itself.has(path, o->value)) give(name, o->value);
        } else if (const FlatParameter* p = q->kind == QuantityKind::param ? param_of(flat, path) : nullptr; p != nullptr && !p->boolean) {
            double si = run.value(system.param(path));
            if (!by_itself.has(path, si))
                give(name, fmt::format("{:.12g}{}", p->unit.from_si(si), p->unit.text.empty() || p->unit.text == "1" ? "" : " " + p->unit.text));
        }
    }
    return fmt::format("{}({})", kind.full_name, values);
}

}  // namespace

AdviceStructure::AdviceStructure(const Library& library, const CompileRequest& request) : library_(library), request_(request) {}

CompiledSystem AdviceStructure::with(const std::vector<Change>& changes)
{
    std::string words;
    CompileRequest request = request_;
    for (const Change& c : changes) {
        if (!c.is_structural()) continue;
        words += c.param + " = " + c.to_text + "\n";
        request.set.emplace_back(c.param, c.to_text);
    }
    std::lock_guard guard(lock_);
    auto known = made_.find(words);
    if (known == made_.end()) known = made_.emplace(words, compile(library_, request)).first;
    return known->second;
}

std::vector<Change> AdviceStructure::at_part(const std::string& part, const CompiledSystem& system, Run& run, const std::vector<Change>& taken)
{
    std::vector<Change> list;
    const CompiledSystemData& data = *SystemAccess::data(system);
    const FlatModel& flat = data.model->form.flat();
    auto holds = [&](const std::string& path) { return path == part || part.starts_with(path + "."); };
    for (const FlatOption& o : flat.options) {
        const std::string& of = flat.instances[o.instance];
        if (of.empty() || !holds(of)) continue;
        for (const std::string& value : o.simpler) {
            Change c;
            c.param = o.path;
            c.from_text = o.value;
            c.to_text = value;
            list.push_back(std::move(c));
        }
    }
    LibrarySet& set = *LibraryAccess::set(library_);
    for (std::size_t i = 0; i < flat.instances.size(); ++i) {
        if (flat.instances[i] != part || part.empty() || part.ends_with("]")) continue;
        const Definition* d = set.find_by_text(flat.kinds[i]);
        std::string name = d != nullptr ? named_instead(*d) : "";
        if (name.empty()) continue;
        // beside the component itself, or anywhere by its full name
        const Definition* other = set.find_by_text(d->full_name.substr(0, d->full_name.size() - d->name.size()) + name);
        if (other == nullptr) other = set.find_by_text(name);
        if (other == nullptr || other->as<ComponentDecl>() == nullptr || set.info(*other) == nullptr) continue;
        Change c;
        c.param = part;
        c.is_part = true;
        c.from_text = flat.kinds[i];
        c.to_text = other->full_name + "()";
        ByItself by_itself;
        try {
            std::vector<Change> all = taken;
            all.push_back(c);
            by_itself.system = with(all);
            by_itself.run.emplace(*by_itself.system);
        } catch (const Error&) {
            by_itself = {};  // it needs values, or does not fit: then the trial says so
        }
        c.to_text = as_it_stands(set, *other, part, system, run, std::move(by_itself));
        list.push_back(std::move(c));
    }
    return list;
}

}  // namespace netloop
