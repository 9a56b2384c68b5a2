// SPDX-License-Identifier: Apache-2.0
#include "foreign/unit_component.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <filesystem>
#include <map>
#include <mutex>
#include <set>

#include "foreign/unit_functions.hpp"
#include "language/syntax.hpp"

namespace netloop {
namespace {

using Variable = ForeignVariable;

bool is_continuous_signal(const Variable& v)
{
    return is_float(v.type) && v.variability == Variable::Variability::continuous;
}
// In which differences, rates and what was told of a variable are: K for degC.
Unit difference_of(const Variable& v)
{
    return !is_float(v.type) ? Unit{} : v.unit.has_offset ? v.unit.difference() : v.unit;
}
std::string shown_unit(const Unit& unit)
{
    return unit.text.empty() ? "1" : unit.text;
}

// All parts of one component, by their path: what their runs share.
class Parts {
public:
    Parts(std::shared_ptr<const ForeignUnit> unit, UnitKind kind) : unit_(std::move(unit)), kind_(kind) {}
    std::shared_ptr<const UnitPart> operator()(const std::string& path)
    {
        std::lock_guard<std::mutex> lock(mutex_);
        std::weak_ptr<const UnitPart>& known = parts_[path];
        std::shared_ptr<const UnitPart> part = known.lock();
        if (part == nullptr) known = part = std::make_shared<const UnitPart>(unit_, kind_, path);
        std::erase_if(parts_, [](const auto& p) { return p.second.expired(); });
        return part;
    }

private:
    std::shared_ptr<const ForeignUnit> unit_;
    UnitKind kind_;
    std::mutex mutex_;
    std::map<std::string, std::weak_ptr<const UnitPart>> parts_;
};

// Names of a unit may hold anything ("der(x)", "valve.in[2]"); ours are letters, digits and strokes.
class Names {
public:
    std::string operator()(const std::string& foreign)
    {
        std::string name;
        for (char c : foreign) {
            bool plain = (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9');
            if (plain)
                name += c;
            else if (!name.empty() && name.back() != '_')
                name += '_';
        }
        while (!name.empty() && name.back() == '_') name.pop_back();
        if (name.empty() || (name[0] >= '0' && name[0] <= '9')) name = "v" + name;
        if (is_reserved(name) || name == "input" || name == "output") name += "_";
        std::string fresh = name;
        for (int k = 2; !taken_.insert(fresh).second; ++k) fresh = fmt::format("{}_{}", name, k);
        return fresh;
    }

private:
    std::set<std::string> taken_{"step", "extrapolated"};
};

std::string one_line(std::string text)
{
    for (char& c : text)
        if (static_cast<unsigned char>(c) < ' ') c = ' ';
    constexpr std::size_t kMost = 300;
    return text.size() > kMost ? text.substr(0, kMost) + " ..." : text;
}

class ComponentText {
public:
    ComponentText(const ForeignUnit& unit, UnitKind kind, const std::string& name, PartOf part_of)
        : unit_(unit), d_(*unit.description), plan_(d_, kind), kind_(kind), name_(name), part_of_(std::move(part_of))
    {
    }

    OutsideComponent component()
    {
        head();
        for (std::size_t v : plan_.params) declare_param(d_.variables[v]);
        for (std::size_t v : plan_.inputs) declare_signal(v, "input");
        for (std::size_t v : plan_.discrete_inputs) declare_signal(v, "input");
        for (std::size_t v : plan_.states) state_names_.push_back(names_(d_.variables[v].name));
        for (std::size_t v : plan_.outputs)
            if (std::find(plan_.states.begin(), plan_.states.end(), v) == plan_.states.end()) declare_signal(v, "output");
        for (std::size_t v : plan_.discrete_outputs) declare_signal(v, "output");
        if (plan_.n_params > 0) {
            function("_values", params_.size(), {{"", "1", UnitAnswer::set_of_params, 0}});
            out_ += fmt::format("    param _set : 1 = _values({})\n", list(params_));
        } else {
            out_ += "    const _set : 1 = 0\n";
        }
        out_ += "    memory _stage : 1 = 0\n";
        if (kind_ == UnitKind::exchange)
            exchange();
        else
            cosimulation();
        made_.name = name_;
        made_.text = out_ + "}\n";
        return std::move(made_);
    }

private:
    void head()
    {
        std::string title = d_.text.empty() ? d_.model_name : d_.text;
        out_ = fmt::format("## {}\n##\n## A unit of FMI {}.0 from {}, by {}.", one_line(title), d_.version,
                           one_line(std::filesystem::path(unit_.file).filename().string()), kind_ == UnitKind::exchange ? "model exchange" : "co-simulation");
        if (!d_.tool.empty()) out_ += fmt::format(" Its maker: {}.", one_line(d_.tool));
        if (kind_ == UnitKind::exchange)
            out_ +=
                fmt::format(" Its {} states are integrated with those of the system, its {} event indicators are watched.", plan_.n_states, plan_.n_indicators);
        else
            out_ += " It is asked every `step`, with the inputs of the moment before; its outputs hold in between.";
        if (!d_.left_out.empty()) {
            std::string all;
            for (const std::string& l : d_.left_out) all += (all.empty() ? "" : ", ") + l;
            out_ += " Left as the unit has them: " + one_line(all) + ".";
        }
        out_ += fmt::format("\ncomponent {} {{\n", name_);
    }
    static std::string type_of(const Variable& v) { return v.type == ForeignType::boolean ? "bool" : is_float(v.type) ? shown_unit(v.unit) : "1"; }
    std::string number(const Variable& v, double si) const { return is_float(v.type) ? in_unit(v.unit, si) : fmt::format("{:.15g}", si); }
    // A literal; 15 digits undo what rounding has made of a short number of the unit's own. `2 1/Pa` is none: 2 Pa^-1 is.
    static std::string in_unit(const Unit& unit, double si)
    {
        std::string text = unit.text, behind = text.starts_with("1/") ? text.substr(2) : "";
        if (text.empty() || text == "1") return fmt::format("{:.15g}", unit.from_si(si));
        if (behind.empty()) return fmt::format("{:.15g} {}", unit.from_si(si), text);
        bool name = std::all_of(behind.begin(), behind.end(), [](unsigned char c) { return std::isalpha(c) != 0; });
        if (name) return fmt::format("{:.15g} {}^-1", unit.from_si(si), behind);
        static const char* const kBase[] = {"m", "kg", "s", "A", "K", "mol", "cd"};
        std::string base;
        for (int k = 0; k < Dimension::kCount; ++k) {
            const auto& e = unit.dimension.exponent(k);
            if (!e.is_zero()) base += fmt::format("{}{}^{}", base.empty() ? "" : "*", kBase[k], static_cast<double>(e.numerator()) / e.denominator());
        }
        return fmt::format("{:.15g}{}{}", si, base.empty() ? "" : " ", base);
    }
    std::string doc(const Variable& v, const std::string& ours) const
    {
        std::string text = one_line(v.text);
        if (!v.items.empty()) {
            text += text.empty() ? "" : "; ";
            for (std::size_t k = 0; k < v.items.size(); ++k) text += (k == 0 ? "" : ", ") + one_line(v.items[k]);
        }
        if (!v.foreign_unit.empty()) text += fmt::format("{}in '{}' there", text.empty() ? "" : "; ", one_line(v.foreign_unit));
        if (v.name != ours) text += fmt::format("{}called '{}' there", text.empty() ? "" : "; ", one_line(v.name));
        return text.empty() ? "" : "    ## " + text;
    }
    static void elements(const std::string& name, const Variable& v, std::vector<std::string>& to)
    {
        for (std::size_t k = 0; k < v.n_elements; ++k) to.push_back(v.is_array ? fmt::format("{}[{}]", name, k + 1) : name);
    }
    std::string size(const Variable& v) const { return v.is_array ? fmt::format("[{}]", v.n_elements) : ""; }

    void declare_param(const Variable& v)
    {
        if (v.is_array && v.n_elements == 0) return;
        std::string ours = names_(v.name), value;
        bool truth = v.type == ForeignType::boolean && !v.is_array;
        if (truth) {
            value = v.start[0] != 0 ? "true" : "false";
        } else {
            for (double s : v.start) value += (value.empty() ? "" : ", ") + number(v, s);
            if (v.is_array) value = "[" + value + "]";
        }
        std::string range;
        if (is_float(v.type) && std::isfinite(v.low) && std::isfinite(v.high) && v.low < v.high)
            range = fmt::format(" in {} .. {}", number(v, v.low), number(v, v.high));
        out_ += fmt::format("    param {}{} : {} = {}{}{}\n", ours, size(v), v.is_array && v.type == ForeignType::boolean ? "1" : type_of(v), value, range,
                            doc(v, ours));
        std::vector<std::string> each;
        elements(ours, v, each);
        for (std::string& e : each) params_.push_back(truth ? fmt::format("if {} then 1 else 0", e) : e);
    }
    void declare_signal(std::size_t index, const char* word)
    {
        const Variable& v = d_.variables[index];
        std::string ours = names_(v.name);
        bool truth = v.type == ForeignType::boolean, input = word[0] == 'i';
        std::string start;
        if (input && !v.start.empty()) {
            if (v.is_array) {
                for (double s : v.start) start += (start.empty() ? "" : ", ") + (truth ? (s != 0 ? "true" : "false") : number(v, s));
                start = " = [" + start + "]";
            } else {
                start = truth ? (v.start[0] != 0 ? " = true" : " = false") : " = " + number(v, v.start[0]);
            }
        }
        out_ += fmt::format("    {} {}{} : {}{}{}\n", word, ours, size(v), type_of(v), start, doc(v, ours));
        std::vector<std::string> each;
        elements(ours, v, each);
        bool continuous = is_continuous_signal(v);
        if (input) {
            for (const std::string& e : each) {
                (continuous ? inputs_ : discrete_inputs_).push_back(truth ? fmt::format("if {} then 1 else 0", e) : e);
                if (!continuous) discrete_units_.push_back(difference_of(v));
            }
        } else {
            output_names_[index] = each;
        }
    }
    std::string list(const std::vector<std::string>& of) const { return fmt::format("{}", fmt::join(of, ", ")); }
    static std::vector<std::string> numbered(const char* word, std::size_t n)
    {
        std::vector<std::string> names;
        for (std::size_t k = 1; k <= n; ++k) names.push_back(fmt::format("{}_{}", word, k));
        return names;
    }
    // One result of a function: its name and unit of measure in the text, and what it is asked for. A function with a single one has no names.
    struct Result {
        std::string name, unit;
        UnitAnswer what = UnitAnswer::nothing;
        std::size_t index = 0;
    };
    using Results = std::vector<Result>;

    void function(const std::string& name, std::size_t n_arguments, Results results)
    {
        std::string arguments = list(numbered("a", n_arguments));
        if (results.size() == 1 && results[0].name.empty()) {
            out_ += fmt::format("    function {}({}) -> 1 {{ return 0 }}\n", name, arguments);
        } else {
            while (results.size() < 2) results.push_back({fmt::format("nothing_{}", results.size() + 1), "1"});  // the language names only several
            std::vector<std::string> named;
            for (const Result& r : results) named.push_back(fmt::format("{} : {}", r.name, r.unit));
            out_ += fmt::format("    function {}({}) -> ({}) {{ }}\n", name, arguments, list(named));
        }
        std::vector<UnitResult> asked;
        for (const Result& r : results) asked.push_back({r.what, r.index});
        made_.functions.emplace_back(name, unit_function(part_of_, std::move(asked), n_arguments));
    }
    // `word`_1, `word`_2 ... for all elements of variables.
    void add_results(Results& to, const char* word, const std::vector<std::size_t>& which, UnitAnswer what) const
    {
        std::size_t k = 0;
        for (std::size_t index : which) {
            const Variable& v = d_.variables[index];
            Unit unit = what == UnitAnswer::rate ? v.unit.rate() : difference_of(v);
            for (std::size_t e = 0; e < v.n_elements; ++e, ++k) to.push_back({fmt::format("{}_{}", word, k + 1), shown_unit(unit), what, k});
        }
    }
    // Set of params, stage, time; then what a function needs.
    static std::vector<std::string> arguments(std::initializer_list<std::vector<std::string>> behind)
    {
        std::vector<std::string> all{"_set", "_stage", "time"};
        for (const auto& l : behind) all.insert(all.end(), l.begin(), l.end());
        return all;
    }

    // Outputs from a function's results `word`_k.
    void give_outputs(const std::vector<std::size_t>& which, const char* from, const char* word)
    {
        std::size_t k = 0;
        for (std::size_t index : which) {
            const Variable& v = d_.variables[index];
            auto named = output_names_.find(index);
            for (std::size_t e = 0; e < v.n_elements; ++e) {
                ++k;
                if (named == output_names_.end()) continue;
                std::string value = fmt::format("{}.{}_{}", from, word, k);
                out_ += fmt::format("    {} = {}\n", named->second[e], v.type == ForeignType::boolean ? value + " > 0.5" : value);
            }
        }
    }

    // `_start` and `_after`: what it begins with, and what a start, an event or a step leaves.
    void functions_of_moments(const std::vector<std::string>& states)
    {
        Results starts, left{{"moved", "1", UnitAnswer::moved, 0}, {"next", "s", UnitAnswer::next, 0}, {"ended", "1", UnitAnswer::ended, 0}};
        add_results(starts, "state", plan_.states, UnitAnswer::start_state);
        add_results(starts, "output", plan_.outputs, UnitAnswer::start_output);
        add_results(starts, "discrete", plan_.discrete_outputs, UnitAnswer::start_discrete_output);
        add_results(left, "state", plan_.states, UnitAnswer::state);
        add_results(left, "output", plan_.outputs, UnitAnswer::held_output);
        add_results(left, "discrete", plan_.discrete_outputs, UnitAnswer::discrete_output);
        std::vector<std::string> at_start = arguments({inputs_, discrete_inputs_}), at_moments = arguments({states, inputs_, discrete_inputs_});
        function("_start", at_start.size(), std::move(starts));
        function("_after", at_moments.size(), std::move(left));
        out_ += fmt::format("    let _s = _start({})\n", list(at_start));
        after_ = fmt::format("_after({})", list(at_moments));
    }
    // Outputs that change at moments only: memories, which the blocks of the moments set.
    void hold_outputs(const std::vector<std::size_t>& which, const char* word, bool lines = false)
    {
        std::size_t k = 0;
        for (std::size_t index : which) {
            const Variable& v = d_.variables[index];
            std::string unit = shown_unit(difference_of(v));
            for (std::size_t e = 0; e < v.n_elements; ++e) {
                ++k;
                std::string memory = fmt::format("_{}_{}", word, k), value = memory;
                out_ += fmt::format("    memory {} : {} = _s.{}_{}\n", memory, unit, word, k);
                if (lines) {
                    out_ += fmt::format("    memory {}_before : {} = _s.{}_{}\n", memory, unit, word, k);
                    remember_ += fmt::format("        {0}_before := {0}\n", memory);
                }
                remember_ += fmt::format("        {} := {}.{}_{}\n", memory, after_, word, k);
                if (v.type == ForeignType::boolean) value += " > 0.5";
                const std::string& name = output_names_.at(index)[e];
                if (lines)
                    out_ += fmt::format("    if extrapolated {{ {0} = {1} + (time - _at) / step * ({1} - {1}_before) }} else {{ {0} = {1} }}\n", name, memory);
                else
                    out_ += fmt::format("    {} = {}\n", name, value);
            }
        }
    }

    void exchange()
    {
        // states, with the start that the unit gives them
        std::vector<std::string> states;
        for (std::size_t k = 0; k < plan_.states.size(); ++k) {
            const Variable& v = d_.variables[plan_.states[k]];
            std::string start = v.is_array ? "" : fmt::format(" init _s.state_{}", states.size() + 1);
            out_ += fmt::format("    {} {}{} : {}{}{}{}\n", is_output(plan_.states[k]) ? "output" : "var", state_names_[k], size(v), type_of(v), start,
                                usual(v), doc(v, state_names_[k]));
            std::size_t first = states.size();
            elements(state_names_[k], v, states);
            for (std::size_t e = first; v.is_array && e < states.size(); ++e) starts_ += fmt::format("    init {} = _s.state_{}\n", states[e], e + 1);
        }
        functions_of_moments(states);
        out_ += starts_;
        Results looked;
        add_results(looked, "rate", plan_.states, UnitAnswer::rate);
        add_results(looked, "output", plan_.outputs, UnitAnswer::output);
        for (std::size_t k = 0; k < plan_.n_indicators; ++k) looked.push_back({fmt::format("indicator_{}", k + 1), "1", UnitAnswer::indicator, k});
        std::vector<std::string> where = arguments({states, inputs_});
        function("_look", where.size(), std::move(looked));
        out_ += fmt::format("    let _l = _look({})\n", list(where));
        for (std::size_t k = 0; k < states.size(); ++k) out_ += fmt::format("    {}' = _l.rate_{}\n", states[k], k + 1);
        give_outputs(plan_.outputs, "_l", "output");
        hold_outputs(plan_.discrete_outputs, "discrete");
        // events: each crossing asks for one, and so do the time that the unit names, an input that jumps, and a step that it asks about
        out_ += "    memory _next : s = 1e300 s\n    memory _seen : 1 = 0\n    memory _timed : 1 = 0\n";
        std::string asked = "_timed";
        auto ask = [&](const std::string& memory, const std::string& condition) {
            out_ += fmt::format("    memory {0} : 1 = 0\n    when {1} {{ {0} := {0} + 1 }}\n", memory, condition);
            asked += " + " + memory;
        };
        for (std::size_t k = 1; k <= plan_.n_indicators; ++k) {
            // a little beyond zero, to each side: there the unit sees the crossing too, whatever it rounds. It stands above if it began so or went up once more
            out_ += fmt::format(
                "    memory _begun_{0} : 1 = 0\n    let _over_{0} : bool = _l.indicator_{0} > 1e-12 * (1 - 2 * (_begun_{0} + _up_{0} - _down_{0}))\n", k);
            ask(fmt::format("_up_{}", k), fmt::format("_over_{}", k));
            ask(fmt::format("_down_{}", k), fmt::format("not _over_{}", k));
            at_start_ += fmt::format(" ; _begun_{0} := if _over_{0} then 1 else 0", k);
        }
        if (d_.wants_completed_steps) {
            function("_asks", arguments({}).size(), {{"", "1", UnitAnswer::asks, 0}});
            ask("_stepped", fmt::format("_asks({}) > 0.5", list(arguments({}))));
        }
        std::size_t k = 0;
        for (const std::string& input : discrete_inputs_) {
            ++k;
            // whatever it jumps to: another value than at the last event
            const Unit& unit = discrete_units_[k - 1];
            constexpr double kEqual = 1e-9;
            out_ += fmt::format("    memory _was_{} : {} = {}\n", k, shown_unit(unit), in_unit(unit, 0));
            ask(fmt::format("_changed_{}", k), fmt::format("abs(({}) - _was_{}) > {}", input, k, in_unit(unit, kEqual * unit.scale)));
            remember_ += fmt::format("        _was_{} := {}\n", k, input);
        }
        out_ += "    when time >= _next { _timed := _timed + 1 }\n";
        out_ += fmt::format("    let _asked : 1 = {}\n", asked);
        std::string moves;
        for (std::size_t m = 0; m < states.size(); ++m) moves += fmt::format("            {} := {}.state_{}\n", states[m], after_, m + 1);
        out_ += "    when _asked > _seen {\n        _seen := _asked\n        _stage := _stage + 1\n    }\n";
        go_through(fmt::format("        _next := {}.next\n", after_) + remember_ +
                   (moves.empty() ? "" : fmt::format("        if {}.moved > 0.5 {{\n{}        }}\n", after_, moves)));
    }
    // The block that brings the unit into the stage that another block has named.
    void go_through(const std::string& body)
    {
        out_ += fmt::format("    memory _done : 1 = 0\n    when start {{ _stage := 1{} }}\n", at_start_);
        out_ += fmt::format("    when _stage > _done {{\n        _done := _stage\n{}        if {}.ended > 0.5 {{ stop \"the unit ends the run\" }}\n    }}\n",
                            body, after_);
    }

    void cosimulation()
    {
        constexpr double kParts = 1000;  // of the experiment that it proposes, where it proposes no step
        double step = d_.step ? *d_.step : d_.stop && *d_.stop > d_.start ? (*d_.stop - d_.start) / kParts : 0.01;
        constexpr double kAny = 0.01;
        if (!(step > 0) || !std::isfinite(step)) step = kAny;
        out_ += fmt::format("    param step : s = {:.15g} s    ## from one exchange of values to the next{}\n", step,
                            d_.variable_steps ? "" : "; the unit may allow only multiples of its own");
        out_ += "    option extrapolated = false    ## whether outputs go on along a line between two steps, instead of being held\n";
        functions_of_moments({});
        out_ += "    memory _at : s = 0 s\n";
        hold_outputs(plan_.outputs, "output", true);
        hold_outputs(plan_.discrete_outputs, "discrete");
        out_ += "    every step from step { _stage := _stage + 1 }\n";
        go_through(remember_ + "        _at := time\n");
    }
    bool is_output(std::size_t index) const { return std::find(plan_.outputs.begin(), plan_.outputs.end(), index) != plan_.outputs.end(); }
    // Only where the unit says it: a size of 1 that nobody meant would loosen the tolerance of what is small.
    std::string usual(const Variable& v) const
    {
        if (!(v.nominal > 0)) return "";
        return " usual " + in_unit(difference_of(v), difference_of(v).offset + v.nominal);
    }

    const ForeignUnit& unit_;
    const ForeignDescription& d_;
    UnitPlan plan_;
    UnitKind kind_;
    std::string name_;
    PartOf part_of_;
    OutsideComponent made_;
    std::string out_, starts_, remember_, after_, at_start_;  ///< texts of the component, of starts, and of what the blocks set
    Names names_;
    std::vector<std::string> params_, inputs_, discrete_inputs_, state_names_;
    std::vector<Unit> discrete_units_;  ///< of the differences of the latter
    std::map<std::size_t, std::vector<std::string>> output_names_;
};

OutsideComponent component_of(const std::shared_ptr<const ForeignUnit>& unit, UnitKind kind, const std::string& name)
{
    // told now rather than at the first step
    const ForeignDescription& d = *unit->description;
    (void)unit_binary(unit->folder->path(), d.version, kind == UnitKind::exchange ? d.exchange_name : d.cosimulation_name);
    auto parts = std::make_shared<Parts>(unit, kind);
    return ComponentText(*unit, kind, name, [parts](const std::string& path) { return (*parts)(path); }).component();
}

}  // namespace

std::shared_ptr<const ForeignUnit> read_foreign_unit(const std::string& file, bool isolated)
{
    auto unit = std::make_shared<ForeignUnit>();
    unit->file = file;
    unit->folder = std::make_shared<const UnitFolder>(file);
    unit->description = std::make_shared<const ForeignDescription>(read_foreign_description(unit->folder->description()));
    unit->isolated = isolated;
    if (unit->description->needs_tool) throw UnitProblemFound("it only works together with the program that made it");
    return unit;
}

std::string unit_text(const ForeignUnit& unit, UnitKind kind, const std::string& name)
{
    return ComponentText(unit, kind, name, {}).component().text;
}

std::vector<OutsideComponent> unit_components(std::shared_ptr<const ForeignUnit> unit, const std::string& name)
{
    const ForeignDescription& d = *unit->description;
    std::vector<OutsideComponent> all;
    if (d.is_exchange()) all.push_back(component_of(unit, UnitKind::exchange, name));
    if (d.is_cosimulation()) all.push_back(component_of(unit, UnitKind::cosimulation, d.is_exchange() ? "Sampled" + name : name));
    return all;
}

}  // namespace netloop
