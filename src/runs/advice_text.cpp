// SPDX-License-Identifier: Apache-2.0
// Advice in words and as JSON.
#include <fmt/format.h>

#include <cmath>
#include <nlohmann/json.hpp>

#include "netloop/advise.hpp"
#include "record/json_number.hpp"
#include "runs/step_text.hpp"

namespace netloop {
namespace {

using Change = Advice::Change;
using Trial = Advice::Trial;
using Price = Advice::Price;

std::string number(double si, double scale, double offset, const std::string& unit)
{
    return fmt::format("{:.4g}{}", (si - offset) / scale, unit.empty() || unit == "1" ? "" : " " + unit);
}

nlohmann::json json_of(const Trial& t)
{
    nlohmann::json changes = nlohmann::json::array(), prices = nlohmann::json::array();
    for (const Change& c : t.changes)
        if (c.is_structural())
            changes.push_back({{c.is_part ? "part" : "option", c.param}, {"from", c.from_text}, {"to", c.to_text}, {"reason", c.reason}, {"text", c.text()}});
        else
            changes.push_back({{"param", c.param},
                               {"from", (c.from - c.offset) / c.scale},
                               {"to", (c.to - c.offset) / c.scale},
                               {"unit", c.unit},
                               {"reason", c.reason},
                               {"text", c.text()}});
    for (const Price& p : t.prices)
        prices.push_back({{"what", p.what},
                          {"difference", json_number(p.difference / p.scale)},
                          {"unit", p.unit},
                          {"share", json_number(p.share)},
                          {"at", json_number(p.at)},
                          {"text", p.text()}});
    nlohmann::json all{{"changes", changes},
                       {"tried", t.tried},
                       {"round", t.round},
                       {"before", json_number(t.before)},
                       {"steps", t.steps},
                       {"seconds", json_number(t.seconds)},
                       {"speed_up", json_number(t.speed_up)},
                       {"prices", prices},
                       {"refused", t.refused}};
    if (t.largest_step > 0) all["largest_step"] = t.largest_step;
    return all;
}

class Telling {
public:
    explicit Telling(const Advice& advice) : a_(advice) {}

    std::string text()
    {
        if (a_.method.empty())
            out_ = fmt::format("as it is: {:.0f} steps in {:.3g} s; {} runs were made\n", a_.as_it_is.steps, a_.as_it_is.seconds, a_.runs);
        else
            out_ = fmt::format("as it is: steps of {} with {} at most; {} runs were made\n", step(a_.as_it_is), a_.method, a_.runs);
        std::size_t last = a_.trials.empty() ? 1 : a_.trials.back().round;
        for (std::size_t round = 1; round <= last; ++round) tell_round(round);
        if (a_.combined.changes.size() > 1) {
            out_ += a_.method.empty() ? fmt::format("\ntogether, speed x {:.2f} ({:.0f} steps)\n", a_.combined.speed_up, a_.combined.steps)
                                      : fmt::format("\ntogether, steps x {:.2f}: {}\n", a_.combined.speed_up, step(a_.combined));
            for (const Change& c : a_.combined.changes) out_ += "  " + c.text() + "\n";
            out_ += "  " + prices(a_.combined) + "\n";
        }
        if (!a_.confirmed.empty()) out_ += "  steps of " + a_.confirmed + "\n";
        if (!a_.scenario.empty()) out_ += "\nto take it over\n\n" + a_.scenario;
        return out_;
    }

private:
    static std::string step(const Trial& t) { return step_text(t.largest_step); }

    static std::string tried_text(const Change& c)
    {
        if (c.is_part) return c.param + " (as " + c.to_text.substr(0, c.to_text.find('(')) + ")";
        return c.param;
    }

    static std::string prices(const Trial& t)
    {
        constexpr std::size_t kMostPrices = 3;
        std::string text;
        for (std::size_t k = 0; k < t.prices.size() && k < kMostPrices; ++k) text += (k == 0 ? "" : "; ") + t.prices[k].text();
        return text;
    }

    void tell_round(std::size_t round)
    {
        const double helps_by = a_.method.empty() ? 1.05 : 1.02;
        constexpr std::size_t kMostShown = 12, kMostLater = 6;
        const std::string better = a_.method.empty() ? "faster" : "longer";
        std::string useless;
        std::size_t shown = 0, helped = 0, of_round = 0;
        double before = 1;
        for (const Trial& t : a_.trials) {
            if (t.round != round) continue;
            ++of_round;
            before = t.before;
            bool helps = t.speed_up > helps_by * before;
            helped += t.refused.empty() && helps ? 1 : 0;
            if (t.refused.empty() && !helps) useless += (useless.empty() ? "" : ", ") + tried_text(t.changes.back());
        }
        if (of_round == 0 && round == 1) out_ += "nothing was found that could be tried\n";
        if (of_round == 0) return;
        if (round > 1) out_ += fmt::format("\nwith that taken (x {:.2f}), looked at anew\n", before);
        if (helped == 0)
            out_ +=
                fmt::format("{}nothing that was tried makes {} and may be taken\n", round == 1 ? "" : "  ", a_.method.empty() ? "it faster" : "steps longer");
        for (const Trial& t : a_.trials) {
            if (t.round != round || (t.refused.empty() && t.speed_up <= helps_by * before)) continue;
            if (shown++ == (round == 1 ? kMostShown : kMostLater)) break;
            const Change& c = t.changes[t.changes.size() - t.tried];
            std::string gain = fmt::format("{} x {:.2f}", a_.method.empty() ? "speed" : "steps", t.speed_up);
            std::string what = c.text();
            for (std::size_t k = t.changes.size() - t.tried + 1; k < t.changes.size(); ++k) what += ", and " + t.changes[k].param;
            if (t.refused.empty())
                out_ += fmt::format("\n  {:<13} {}\n                {}\n                {}\n", gain, what, c.reason, prices(t));
            else
                out_ += fmt::format("\n  refused       {}\n                {}{}\n", what, t.speed_up != 1 ? gain + ", but " : "", t.refused);
        }
        if (!useless.empty()) out_ += fmt::format("\n  no {} with other values of {}\n", better, useless);
    }

    const Advice& a_;
    std::string out_;
};

}  // namespace

std::string Advice::Change::text() const
{
    if (is_structural()) return fmt::format("{}: {} -> {}", param, from_text, to_text);
    return fmt::format("{}: {} -> {}", param, number(from, scale, offset, unit), number(to, scale, offset, unit));
}

std::string Advice::Price::text() const
{
    std::string size = fmt::format("{} differs by {}", what, number(difference, scale, 0, unit));
    return std::isnan(at) ? size : size + fmt::format(" at {:.4g} s", at);
}

std::string Advice::text() const
{
    return Telling(*this).text();
}

std::string Advice::json() const
{
    nlohmann::json list = nlohmann::json::array();
    for (const Trial& t : trials) list.push_back(json_of(t));
    nlohmann::json all{{"as_it_is", json_of(as_it_is)}, {"trials", list}, {"runs", runs}, {"scenario", scenario}};
    if (!method.empty()) all["method"] = method;
    if (!confirmed.empty()) all["confirmed"] = confirmed;
    all["combined"] = combined.changes.empty() ? nlohmann::json(nullptr) : json_of(combined);
    return all.dump(1, ' ', false, nlohmann::json::error_handler_t::replace);
}

}  // namespace netloop
