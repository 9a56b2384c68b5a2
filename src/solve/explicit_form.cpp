// SPDX-License-Identifier: Apache-2.0
#include "solve/explicit_form.hpp"

#include <algorithm>

namespace netloop {

bool is_explicit(const CompiledModel& m, const Evaluation& e)
{
    if (!m.form.choices.empty()) return false;
    std::vector<std::uint32_t> ones;  // places of literals that are 1
    for (const auto& [place, value] : m.literals)
        if (value == 1) ones.push_back(place);
    std::sort(ones.begin(), ones.end());
    std::vector<char> seen(m.n(), 0);
    for (std::uint32_t c = 0; c < m.n(); ++c) {
        if (m.form.z[c].kind != ZEntry::Kind::state) return false;
        for (auto k = static_cast<std::size_t>(m.pattern.starts[c]); k < static_cast<std::size_t>(m.pattern.starts[c + 1]); ++k) {
            if (m.by_rate[k] == kNoNode) continue;
            bool one = m.by_rate[k] >= m.layout.constants && e.value_at(m.by_rate[k]) == 1 && std::binary_search(ones.begin(), ones.end(), m.by_rate[k]);
            if (m.pattern.rows[k] != static_cast<std::int64_t>(c) || !one) return false;
            seen[c] = 1;
        }
    }
    return m.n() > 0 && std::all_of(seen.begin(), seen.end(), [](char s) { return s != 0; });
}

bool explicit_rates(Evaluation& e, double t, double* f)
{
    std::size_t n = e.model().n();
    e.set_time(t);
    std::fill_n(e.rates(), n, 0.0);
    return e.negative_residual(f);
}

}  // namespace netloop
