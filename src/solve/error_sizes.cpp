// SPDX-License-Identifier: Apache-2.0
#include "solve/error_sizes.hpp"

#include <cmath>

#include "netloop/recording.hpp"
#include "solve/vector_loops.hpp"

namespace netloop {

std::vector<std::size_t> members_named(const CompiledModel& model, const std::string& pattern)
{
    std::vector<std::size_t> found;
    const auto& resolutions = model.form.reduced.system.resolutions;
    const auto& quantities = model.form.flat().quantities;
    for (std::size_t i = 0; i < model.n(); ++i) {
        Variable v = model.form.z[i].variable;
        bool fits = false;
        for (QuantityId q = 0; q < resolutions.size() && !fits; ++q) {
            const Resolution& r = resolutions[q];
            if (r.known != kNoNode || r.representative != v.quantity || r.order > v.order) continue;
            fits = fits_pattern(pattern, quantities[q].path + std::string(v.order - r.order, '\''));
        }
        if (fits) found.push_back(i);
    }
    return found;
}

ErrorSizes::ErrorSizes(const CompiledModel& model, const std::vector<OwnTolerance>& own, double tolerance)
    : usual(model.n()), least(model.n(), 0.0), factor(model.n(), 1.0)
{
    for (std::size_t i = 0; i < model.n(); ++i) usual[i] = model.form.z[i].usual;
    for (const OwnTolerance& o : own)
        for (std::size_t i : members_named(model, o.pattern)) {
            any = true;
            if (o.tolerance > 0) factor[i] = o.tolerance / tolerance;
            if (o.usual > 0) least[i] = usual[i] = o.usual;
        }
}

void ErrorSizes::own_weights(double tolerance, const double* v, double* w)
{
    if (!any) return;
    for (std::size_t i = 0; i < usual.size(); ++i) {
        if (least[i] > 0) usual[i] = least[i];
        if (least[i] > 0 || factor[i] != 1) w[i] = 1 / (tolerance * factor[i] * (std::abs(v[i]) + usual[i]));
    }
}

void ErrorSizes::weigh(double tolerance, const double* v, double* w)
{
    netloop::weigh(usual.size(), tolerance, v, usual.data(), w);
    own_weights(tolerance, v, w);
}

}  // namespace netloop
