// SPDX-License-Identifier: Apache-2.0
// The table of events, for people.
#include <fmt/format.h>

#include <algorithm>

#include "netloop/recording.hpp"

namespace netloop {

std::string EventRecord::text(std::size_t most) const
{
    if (kinds.empty()) return "no events\n";
    auto share = [](double part, double whole) { return whole > 0 ? fmt::format("{:.1f} %", 100 * part / whole) : std::string("-"); };
    std::string out = fmt::format("{:>8}  {:>8}  {:>8}  {:>12}  {:>12}  {}\n", "count", "steps", "time", "first", "last", "part: what (place)");
    for (std::size_t i = 0; i < kinds.size() && i < most; ++i) {
        const EventEntry& e = kinds[i];
        out += fmt::format("{:>8}  {:>8}  {:>8}  {:>10.6g} s  {:>10.6g} s  {}{}{}\n", e.times.size(), share(e.steps_lost, steps), share(e.seconds, seconds),
                           e.times.front(), e.times.back(), e.part.empty() ? "" : e.part + ": ", e.text, e.place.empty() ? "" : " (" + e.place + ")");
    }
    if (kinds.size() > most) out += fmt::format("  and {} more\n", kinds.size() - most);
    return out;
}

}  // namespace netloop
