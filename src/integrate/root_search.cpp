#include "integrate/root_search.hpp"

#include <algorithm>
#include <cmath>
#include <limits>

#include "integrate/integrator.hpp"

namespace netloop {
namespace {

bool crosses(double a, double b)
{
    return (a < 0 && b >= 0) || (a > 0 && b <= 0);
}

}  // namespace

RootSearch::RootSearch(Evaluation& evaluation) : e_(evaluation)
{
    std::size_t n = n_root_functions(e_.model());
    before_.resize(n);
    now_.resize(n);
    trial_.resize(n);
    crossings_.assign(n, 0);
    z_.resize(e_.model().n());
    rates_.resize(e_.model().n());
}

void RootSearch::start(double t, const std::vector<double>& z, const std::vector<double>& rates)
{
    if (none()) return;
    e_.at(t, z.data(), rates.data());
    root_functions(e_, scratch_, before_.data());
}

bool RootSearch::find(double before, double now, const std::function<void(double, std::vector<double>&, std::vector<double>&)>& interpolate)
{
    if (none()) return false;
    auto values_at = [&](double t, std::vector<double>& g) {
        interpolate(t, z_, rates_);
        e_.at(t, z_.data(), rates_.data());
        root_functions(e_, scratch_, g.data());
    };
    values_at(now, now_);
    bool any = false;
    for (std::size_t i = 0; i < now_.size(); ++i) any |= crosses(before_[i], now_[i]);
    if (!any) {
        std::swap(before_, now_);
        return false;
    }
    double low = before, high = now;
    double tolerance = 100 * std::numeric_limits<double>::epsilon() * (std::abs(now) + std::abs(now - before));
    std::vector<double> g_low = before_, g_high = now_;
    double bend = 1;
    int side = 0;
    for (int round = 0; round < 200 && high - low > tolerance; ++round) {
        double share = 0.5, largest = 0;
        for (std::size_t i = 0; i < g_low.size(); ++i) {
            if (!crosses(g_low[i], g_high[i])) continue;
            double s = std::abs(g_high[i]) / std::abs(g_high[i] - bend * g_low[i]);
            if (s > largest) largest = s, share = 1 - s;  // the earliest of them
        }
        // never nearer to an end than half the tolerance, so that the enclosure shrinks
        double least = std::min(0.5, 0.5 * tolerance / (high - low));
        double mid = low + std::clamp(share, least, 1 - least) * (high - low);
        values_at(mid, trial_);
        bool left = false;
        for (std::size_t i = 0; i < g_low.size(); ++i) left |= crosses(g_low[i], trial_[i]);
        if (left) {
            high = mid;
            g_high = trial_;
            bend = side == 1 ? bend * 0.5 : 1;
            side = 1;
        } else {
            low = mid;
            g_low = trial_;
            bend = side == 2 ? bend * 2 : 1;
            side = 2;
        }
    }
    for (std::size_t i = 0; i < crossings_.size(); ++i) crossings_[i] = crosses(g_low[i], g_high[i]) ? (g_low[i] < 0 ? 1 : -1) : 0;
    time_ = high;
    return true;
}

}  // namespace netloop
