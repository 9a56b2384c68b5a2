// SPDX-License-Identifier: Apache-2.0
#include "solve/vector_loops.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <map>
#include <numeric>
#include <string>

// A second form of each loop for processors with wider vectors, chosen when the program starts (before a sanitizer is ready for it).
#if defined(__x86_64__) && defined(__GNUC__) && !defined(__clang__) && !defined(__SANITIZE_ADDRESS__) && !defined(__SANITIZE_THREAD__)
#define WIDE_TOO __attribute__((target_clones("avx2", "default")))
#else
#define WIDE_TOO
#endif

namespace netloop {
namespace {

constexpr std::size_t kBlock = 512;  ///< numbers at a time: what a loop over several vectors touches stays in the first-level cache

// The result of a reduction must not hide what is no number: 0 * x is 0 for every finite x.
WIDE_TOO double correct_block(std::size_t n, double share, double cj, const double* __restrict delta, const double* __restrict w, double* __restrict y,
                              double* __restrict yp, double* __restrict e)
{
    double largest = 0, finite = 0;
#pragma omp simd reduction(max : largest) reduction(+ : finite)
    for (std::size_t i = 0; i < n; ++i) {
        double d = share * delta[i];
        y[i] -= d;
        e[i] -= d;
        yp[i] -= cj * d;
        double size = std::abs(d * w[i]);
        largest = size > largest ? size : largest;
        finite += 0 * d;
    }
    return largest + finite;
}

WIDE_TOO void scale(std::size_t n, double by, double* __restrict v)
{
#pragma omp simd
    for (std::size_t i = 0; i < n; ++i) v[i] *= by;
}

WIDE_TOO void add_both(std::size_t n, double slope, const double* __restrict p, double* __restrict y, double* __restrict yp)
{
#pragma omp simd
    for (std::size_t i = 0; i < n; ++i) {
        y[i] += p[i];
        yp[i] += slope * p[i];
    }
}

WIDE_TOO void begin_both(std::size_t n, double slope, const double* __restrict value, const double* __restrict p, double* __restrict y, double* __restrict yp)
{
#pragma omp simd
    for (std::size_t i = 0; i < n; ++i) {
        y[i] = value[i] + p[i];
        yp[i] = 0.0 + slope * p[i];
    }
}

WIDE_TOO void add(std::size_t n, double* __restrict v, const double* __restrict by)
{
#pragma omp simd
    for (std::size_t i = 0; i < n; ++i) v[i] += by[i];
}

WIDE_TOO void weights(std::size_t n, double tolerance, const double* __restrict v, double* __restrict usual, double* __restrict w)
{
#pragma omp simd
    for (std::size_t i = 0; i < n; ++i) {
        double size = std::abs(v[i]), most = usual[i] > size ? usual[i] : size;
        usual[i] = most;
        w[i] = 1 / (tolerance * (size + most));
    }
}

WIDE_TOO void add_squares(std::size_t n, const double* __restrict w, const double* __restrict a, double* __restrict sum)
{
#pragma omp simd
    for (std::size_t i = 0; i < n; ++i) {
        double r = a[i] * w[i];
        sum[i] += r * r;
    }
}
WIDE_TOO void add_squares(std::size_t n, const double* __restrict w, const double* __restrict a, const double* __restrict b, double* __restrict sum)
{
#pragma omp simd
    for (std::size_t i = 0; i < n; ++i) {
        double r = (a[i] + b[i]) * w[i];
        sum[i] += r * r;
    }
}
WIDE_TOO void add_squares(std::size_t n, const double* __restrict w, const double* __restrict a, const double* __restrict b, const double* __restrict c,
                          double* __restrict sum)
{
#pragma omp simd
    for (std::size_t i = 0; i < n; ++i) {
        double r = (a[i] + b[i] + c[i]) * w[i];
        sum[i] += r * r;
    }
}

WIDE_TOO void add_squares_of_sums(std::size_t n, const double* __restrict w, const double* __restrict a, const double* __restrict b, const double* __restrict c,
                                  double* __restrict first, double* __restrict second, double* __restrict third)
{
#pragma omp simd
    for (std::size_t i = 0; i < n; ++i) {
        double one = a[i] * w[i], two = (a[i] + b[i]) * w[i], three = (a[i] + b[i] + c[i]) * w[i];
        first[i] += one * one;
        second[i] += two * two;
        third[i] += three * three;
    }
}

WIDE_TOO double largest_of(std::size_t n, const double* __restrict v)
{
    double largest = 0, finite = 0;
#pragma omp simd reduction(max : largest) reduction(+ : finite)
    for (std::size_t i = 0; i < n; ++i) {
        largest = v[i] > largest ? v[i] : largest;
        finite += 0 * v[i];
    }
    return largest + finite;
}

WIDE_TOO double gather_block(std::size_t n, const double* __restrict memory, const std::uint32_t* __restrict places, double* __restrict to)
{
    double finite = 0;
#pragma omp simd reduction(+ : finite)
    for (std::size_t i = 0; i < n; ++i) {
        to[i] = memory[places[i]];
        finite += 0 * to[i];
    }
    return finite;
}

WIDE_TOO void add_and_raise(std::size_t n, double g, const double* __restrict above, double* __restrict phi, double* __restrict p)
{
#pragma omp simd
    for (std::size_t i = 0; i < n; ++i) {
        p[i] += g * phi[i];
        phi[i] += above[i];
    }
}

WIDE_TOO void times_and_add(std::size_t n, double h, const double* __restrict y, double* __restrict p)
{
#pragma omp simd
    for (std::size_t i = 0; i < n; ++i) p[i] = y[i] + h * p[i];
}

WIDE_TOO void differences_above(std::size_t n, const double* __restrict f, const double* __restrict first, double* __restrict above,
                                double* __restrict two_above)
{
#pragma omp simd
    for (std::size_t i = 0; i < n; ++i) {
        above[i] = f[i] - first[i];
        two_above[i] = above[i] - two_above[i];
    }
}

template <typename Visit>
void by_blocks(std::size_t n, Visit visit)
{
    for (std::size_t first = 0; first < n; first += kBlock) visit(first, std::min(kBlock, n - first));
}

}  // namespace

void predict(std::size_t n, Differences d, const double* scales, const double* slope, double* y, double* yp, double* e)
{
    by_blocks(n, [&](std::size_t first, std::size_t count) {
        std::fill_n(e + first, count, 0.0);
        for (int j = 1; j <= d.order; ++j) {
            if (scales[j] != 1) scale(count, scales[j], d.phi[j] + first);
            if (j == 1)
                begin_both(count, slope[j], d.phi[0] + first, d.phi[j] + first, y + first, yp + first);
            else
                add_both(count, slope[j], d.phi[j] + first, y + first, yp + first);
        }
    });
}

double correct(std::size_t n, double share, double cj, const double* delta, const double* w, double* y, double* yp, double* e)
{
    return correct_block(n, share, cj, delta, w, y, yp, e);
}

void advance(std::size_t n, Differences d, bool keep_above, const double* e, double tolerance, double* usual, double* w)
{
    by_blocks(n, [&](std::size_t first, std::size_t count) {
        if (keep_above) std::copy_n(e + first, count, d.phi[d.order + 1] + first);
        add(count, d.phi[d.order] + first, e + first);
        for (int j = d.order - 1; j >= 0; --j) add(count, d.phi[j] + first, d.phi[j + 1] + first);
        weights(count, tolerance, d.phi[0] + first, usual + first, w + first);
    });
}

void adams_predict(std::size_t n, double* const* phi, int k, int same, const double* scales, const double* g, double h, const double* y, double* p)
{
    by_blocks(n, [&](std::size_t first, std::size_t count) {
        for (int i = same + 1; i <= k; ++i) scale(count, scales[i], phi[i] + first);
        std::copy_n(phi[k + 1] + first, count, phi[k + 2] + first);
        std::fill_n(phi[k + 1] + first, count, 0.0);
        std::fill_n(p + first, count, 0.0);
        for (int i = k; i >= 1; --i) add_and_raise(count, g[i], phi[i + 1] + first, phi[i] + first, p + first);
        times_and_add(count, h, y + first, p + first);
    });
}

void adams_advance(std::size_t n, double* const* phi, int k, const double* f, const double* y, double tolerance, double* usual, double* w)
{
    by_blocks(n, [&](std::size_t first, std::size_t count) {
        differences_above(count, f + first, phi[1] + first, phi[k + 1] + first, phi[k + 2] + first);
        for (int i = 1; i <= k; ++i) add(count, phi[i] + first, phi[k + 1] + first);
        weights(count, tolerance, y + first, usual + first, w + first);
    });
}

void weigh(std::size_t n, double tolerance, const double* v, double* usual, double* w)
{
    weights(n, tolerance, v, usual, w);
}

std::vector<std::size_t> worst_first(const std::vector<double>& e, const std::vector<double>& w)
{
    std::vector<std::size_t> order;
    for (std::size_t i = 0; i < e.size(); ++i)
        if (e[i] * w[i] != 0) order.push_back(i);
    std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) { return std::abs(e[a] * w[a]) > std::abs(e[b] * w[b]); });
    return order;
}

bool gather(std::size_t n, const double* memory, const std::uint32_t* places, double* to)
{
    return gather_block(n, memory, places, to) == 0;
}

std::array<double, 3> PartNorm::of_sums(const double* w, const double* a, const double* b, const double* c) const
{
    std::array<double, 3> worst{};
    std::array<std::array<double, kBlock>, 3> sum;
    for (const Class& parts : classes_) {
        by_blocks(parts.n_parts, [&](std::size_t first, std::size_t count) {
            for (auto& s : sum) std::fill_n(s.begin(), count, 0.0);
            for (std::size_t k = 0; k < parts.layers.size(); ++k) {
                const std::uint32_t* layer = parts.layers[k].data() + first;
                if (parts.in_a_row[k] != 0) {
                    std::size_t at = layer[0];
                    add_squares_of_sums(count, w + at, a + at, b + at, c + at, sum[0].data(), sum[1].data(), sum[2].data());
                    continue;
                }
                for (std::size_t i = 0; i < count; ++i) {
                    std::size_t at = layer[i];
                    double one = a[at] * w[at], two = (a[at] + b[at]) * w[at], three = (a[at] + b[at] + c[at]) * w[at];
                    sum[0][i] += one * one;
                    sum[1][i] += two * two;
                    sum[2][i] += three * three;
                }
            }
            for (std::size_t s = 0; s < 3; ++s) {
                double largest = largest_of(count, sum[s].data()) / static_cast<double>(parts.layers.size());
                worst[s] = largest > worst[s] || std::isnan(largest) ? largest : worst[s];
            }
        });
    }
    for (double& v : worst) v = std::sqrt(v);
    return worst;
}

double PartNorm::first_step(const double* w, const double* rates, double distance) const
{
    double h = 1e-3 * distance, rate = (*this)(w, rates);
    return rate > 0.5 / h ? 0.5 / rate : h;
}

PartNorm::PartNorm(const CompiledModel& model)
{
    std::map<std::pair<std::uint32_t, std::string>, std::vector<std::uint32_t>> parts;
    for (std::uint32_t i = 0; i < model.n(); ++i) {
        const ZEntry& z = model.form.z[i];
        if (z.kind != ZEntry::Kind::state && z.kind != ZEntry::Kind::candidate) continue;
        const FlatQuantity& q = model.form.flat().quantities[z.variable.quantity];
        std::size_t bracket = q.path.rfind('[');
        bool cell = bracket != std::string::npos && q.path.back() == ']';
        parts[{q.origin.instance, cell ? q.path.substr(bracket) : std::string()}].push_back(i);
    }
    std::vector<std::vector<std::uint32_t>> sorted;
    for (auto& [key, members] : parts) sorted.push_back(std::move(members));
    std::sort(sorted.begin(), sorted.end());
    std::map<std::size_t, std::size_t> class_of;
    for (const auto& members : sorted) {
        auto [at, is_new] = class_of.try_emplace(members.size(), classes_.size());
        if (is_new) classes_.emplace_back().layers.resize(members.size());
        Class& c = classes_[at->second];
        ++c.n_parts;
        for (std::size_t k = 0; k < members.size(); ++k) c.layers[k].push_back(members[k]);
    }
    for (Class& c : classes_)
        for (const auto& layer : c.layers) {
            bool row = true;
            for (std::size_t k = 1; k < layer.size(); ++k) row &= layer[k] == layer[0] + k;
            c.in_a_row.push_back(row ? 1 : 0);
        }
}

double PartNorm::operator()(const double* w, const double* a, const double* b, const double* c) const
{
    double worst = 0;
    std::array<double, kBlock> sum;
    for (const Class& parts : classes_) {
        by_blocks(parts.n_parts, [&](std::size_t first, std::size_t count) {
            std::fill_n(sum.begin(), count, 0.0);
            for (std::size_t k = 0; k < parts.layers.size(); ++k) {
                const std::uint32_t* layer = parts.layers[k].data() + first;
                if (parts.in_a_row[k] != 0) {
                    std::size_t at = layer[0];
                    if (c != nullptr)
                        add_squares(count, w + at, a + at, b + at, c + at, sum.data());
                    else if (b != nullptr)
                        add_squares(count, w + at, a + at, b + at, sum.data());
                    else
                        add_squares(count, w + at, a + at, sum.data());
                    continue;
                }
                for (std::size_t i = 0; i < count; ++i) {
                    std::size_t at = layer[i];
                    double r = (a[at] + (b != nullptr ? b[at] : 0) + (c != nullptr ? c[at] : 0)) * w[at];
                    sum[i] += r * r;
                }
            }
            double largest = largest_of(count, sum.data()) / static_cast<double>(parts.layers.size());
            worst = largest > worst || std::isnan(largest) ? largest : worst;
        });
    }
    return std::sqrt(worst);
}

}  // namespace netloop
