// SPDX-License-Identifier: Apache-2.0
#include "solve/vector_loops.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <map>
#include <numeric>

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

// What one pass over several vectors is made of: inlined, so that a pass is one function, compiled for each kind of processor.
#define WITHIN static inline __attribute__((always_inline))

WITHIN void scale(std::size_t n, double by, double* __restrict v)
{
#pragma omp simd
    for (std::size_t i = 0; i < n; ++i) v[i] *= by;
}

WITHIN void add_both(std::size_t n, double slope, const double* __restrict p, double* __restrict y, double* __restrict yp)
{
#pragma omp simd
    for (std::size_t i = 0; i < n; ++i) {
        y[i] += p[i];
        yp[i] += slope * p[i];
    }
}

WITHIN void begin_both(std::size_t n, double slope, const double* __restrict value, const double* __restrict p, double* __restrict y, double* __restrict yp)
{
#pragma omp simd
    for (std::size_t i = 0; i < n; ++i) {
        y[i] = value[i] + p[i];
        yp[i] = 0.0 + slope * p[i];
    }
}

WITHIN void add(std::size_t n, double* __restrict v, const double* __restrict by)
{
#pragma omp simd
    for (std::size_t i = 0; i < n; ++i) v[i] += by[i];
}

WITHIN void make_weights(std::size_t n, double tolerance, const double* __restrict v, double* __restrict usual, double* __restrict w)
{
#pragma omp simd
    for (std::size_t i = 0; i < n; ++i) {
        double size = std::abs(v[i]), most = usual[i] > size ? usual[i] : size;
        usual[i] = most;
        w[i] = 1 / (tolerance * (size + most));
    }
}

WITHIN void add_and_raise(std::size_t n, double g, const double* __restrict above, double* __restrict phi, double* __restrict p)
{
#pragma omp simd
    for (std::size_t i = 0; i < n; ++i) {
        p[i] += g * phi[i];
        phi[i] += above[i];
    }
}

WITHIN void times_and_add(std::size_t n, double h, const double* __restrict y, double* __restrict p)
{
#pragma omp simd
    for (std::size_t i = 0; i < n; ++i) p[i] = y[i] + h * p[i];
}

WITHIN void differences_above(std::size_t n, const double* __restrict f, const double* __restrict first, double* __restrict above, double* __restrict two_above)
{
#pragma omp simd
    for (std::size_t i = 0; i < n; ++i) {
        above[i] = f[i] - first[i];
        two_above[i] = above[i] - two_above[i];
    }
}

WIDE_TOO void predict_block(std::size_t first, std::size_t n, double* const* phi, int order, const double* scales, const double* slope, double* y, double* yp,
                            double* e)
{
    std::fill_n(e + first, n, 0.0);
    for (int j = 1; j <= order; ++j) {
        if (scales[j] != 1) scale(n, scales[j], phi[j] + first);
        if (j == 1)
            begin_both(n, slope[j], phi[0] + first, phi[j] + first, y + first, yp + first);
        else
            add_both(n, slope[j], phi[j] + first, y + first, yp + first);
    }
}

WIDE_TOO void advance_block(std::size_t first, std::size_t n, double* const* phi, int order, bool keep_above, const double* e, double tolerance, double* usual,
                            double* w)
{
    if (keep_above) std::copy_n(e + first, n, phi[order + 1] + first);
    add(n, phi[order] + first, e + first);
    for (int j = order - 1; j >= 0; --j) add(n, phi[j] + first, phi[j + 1] + first);
    make_weights(n, tolerance, phi[0] + first, usual + first, w + first);
}

WIDE_TOO void adams_predict_block(std::size_t first, std::size_t n, double* const* phi, int k, int same, const double* scales, const double* g, double h,
                                  const double* y, double* p)
{
    for (int i = same + 1; i <= k; ++i) scale(n, scales[i], phi[i] + first);
    std::copy_n(phi[k + 1] + first, n, phi[k + 2] + first);
    std::fill_n(phi[k + 1] + first, n, 0.0);
    std::fill_n(p + first, n, 0.0);
    for (int i = k; i >= 1; --i) add_and_raise(n, g[i], phi[i + 1] + first, phi[i] + first, p + first);
    times_and_add(n, h, y + first, p + first);
}

WIDE_TOO void adams_advance_block(std::size_t first, std::size_t n, double* const* phi, int k, const double* f, const double* y, double tolerance,
                                  double* usual, double* w)
{
    differences_above(n, f + first, phi[1] + first, phi[k + 1] + first, phi[k + 2] + first);
    for (int i = 1; i <= k; ++i) add(n, phi[i] + first, phi[k + 1] + first);
    make_weights(n, tolerance, y + first, usual + first, w + first);
}

WIDE_TOO void weights(std::size_t n, double tolerance, const double* v, double* usual, double* w)
{
    make_weights(n, tolerance, v, usual, w);
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

// The largest sum of squares over `layers` stretches of the vectors that begin at `at`: one pass where the states of parts lie in rows.
template <int layers, typename Square>
WITHIN double largest_sum(std::size_t n, const std::size_t* at, Square square)
{
    double largest = 0, finite = 0;
#pragma omp simd reduction(max : largest) reduction(+ : finite)
    for (std::size_t i = 0; i < n; ++i) {
        double sum = square(at[0] + i);
        if (layers > 1) sum += square(at[1] + i);
        if (layers > 2) sum += square(at[2] + i);
        largest = sum > largest ? sum : largest;
        finite += 0 * sum;
    }
    return largest + finite;
}
template <typename Square>
WITHIN double largest_of_layers(std::size_t n, std::size_t layers, const std::size_t* at, Square square)
{
    return layers == 1 ? largest_sum<1>(n, at, square) : layers == 2 ? largest_sum<2>(n, at, square) : largest_sum<3>(n, at, square);
}
WIDE_TOO double largest_in_rows(std::size_t n, std::size_t layers, const std::size_t* at, const double* w, const double* a, const double* b, const double* c)
{
    if (c != nullptr) return largest_of_layers(n, layers, at, [=](std::size_t i) { return (a[i] + b[i] + c[i]) * w[i] * ((a[i] + b[i] + c[i]) * w[i]); });
    if (b != nullptr) return largest_of_layers(n, layers, at, [=](std::size_t i) { return (a[i] + b[i]) * w[i] * ((a[i] + b[i]) * w[i]); });
    return largest_of_layers(n, layers, at, [=](std::size_t i) { return a[i] * w[i] * (a[i] * w[i]); });
}

WIDE_TOO double copy_signed(std::size_t n, double sign, const double* __restrict from, double* __restrict to)
{
    double finite = 0;
#pragma omp simd reduction(+ : finite)
    for (std::size_t i = 0; i < n; ++i) {
        to[i] = sign * from[i];
        finite += 0 * to[i];
    }
    return finite;
}

WIDE_TOO double gather_signed(std::size_t n, double sign, const double* __restrict memory, const std::uint32_t* __restrict places, double* __restrict to)
{
    double finite = 0;
#pragma omp simd reduction(+ : finite)
    for (std::size_t i = 0; i < n; ++i) {
        to[i] = sign * memory[places[i]];
        finite += 0 * to[i];
    }
    return finite;
}

// The mean of `square(i)` over a part's states. Four sums: they do not wait for each other.
template <typename Square>
double mean_of(const std::vector<std::uint32_t>& states, bool in_a_row, Square square)
{
    std::size_t n = states.size(), first = states[0], i = 0;
    double a = 0, b = 0, c = 0, d = 0;
    if (in_a_row) {
        for (; i + 4 <= n; i += 4) a += square(first + i), b += square(first + i + 1), c += square(first + i + 2), d += square(first + i + 3);
        for (; i < n; ++i) a += square(first + i);
    } else {
        for (; i + 4 <= n; i += 4) a += square(states[i]), b += square(states[i + 1]), c += square(states[i + 2]), d += square(states[i + 3]);
        for (; i < n; ++i) a += square(states[i]);
    }
    return ((a + b) + (c + d)) / static_cast<double>(n);
}

double larger(double a, double b)  // what is no number stays
{
    return b > a || std::isnan(b) ? b : a;
}

constexpr std::size_t kSmall = 24;  ///< for so few numbers a call to a form for wide vectors takes longer than the loop

template <typename Visit>
void by_blocks(std::size_t n, Visit visit)
{
    for (std::size_t first = 0; first < n; first += kBlock) visit(first, std::min(kBlock, n - first));
}

}  // namespace

void predict(std::size_t n, Differences d, const double* scales, const double* slope, double* y, double* yp, double* e)
{
    by_blocks(n, [&](std::size_t first, std::size_t count) { predict_block(first, count, d.phi, d.order, scales, slope, y, yp, e); });
}

double correct(std::size_t n, double share, double cj, const double* delta, const double* w, double* y, double* yp, double* e)
{
    if (n <= kSmall) {
        double largest = 0, finite = 0;
        for (std::size_t i = 0; i < n; ++i) {
            double c = share * delta[i], size = std::abs(c * w[i]);
            y[i] -= c;
            e[i] -= c;
            yp[i] -= cj * c;
            largest = size > largest ? size : largest;
            finite += 0 * c;
        }
        return largest + finite;
    }
    return correct_block(n, share, cj, delta, w, y, yp, e);
}

void advance(std::size_t n, Differences d, bool keep_above, const double* e, double tolerance, double* usual, double* w)
{
    by_blocks(n, [&](std::size_t first, std::size_t count) { advance_block(first, count, d.phi, d.order, keep_above, e, tolerance, usual, w); });
}

void adams_predict(std::size_t n, double* const* phi, int k, int same, const double* scales, const double* g, double h, const double* y, double* p)
{
    by_blocks(n, [&](std::size_t first, std::size_t count) { adams_predict_block(first, count, phi, k, same, scales, g, h, y, p); });
}

void adams_advance(std::size_t n, double* const* phi, int k, const double* f, const double* y, double tolerance, double* usual, double* w)
{
    by_blocks(n, [&](std::size_t first, std::size_t count) { adams_advance_block(first, count, phi, k, f, y, tolerance, usual, w); });
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
    if (n <= kSmall) {
        double finite = 0;
        for (std::size_t i = 0; i < n; ++i) {
            to[i] = memory[places[i]];
            finite += 0 * to[i];
        }
        return finite == 0;
    }
    return gather_signed(n, 1, memory, places, to) == 0;
}

Gathering::Gathering(const std::vector<std::uint32_t>& places)
{
    for (std::uint32_t place : places) {
        if (stretches_.empty() || place != stretches_.back().place + stretches_.back().n) stretches_.push_back({place, 0});
        ++stretches_.back().n;
    }
    constexpr std::size_t kLong = 8;  // on average; copies of shorter ones take longer than picking
    if (stretches_.size() * kLong <= places.size()) return;
    stretches_.clear();
    places_ = places;
}

bool Gathering::operator()(double sign, const double* memory, double* to) const
{
    if (!places_.empty()) return gather_signed(places_.size(), sign, memory, places_.data(), to) == 0;
    double finite = 0;
    for (const Stretch& s : stretches_) {
        finite += copy_signed(s.n, sign, memory + s.place, to);
        to += s.n;
    }
    return finite == 0;
}

std::array<double, 3> PartNorm::of_sums(const double* w, const double* a, const double* b, const double* c) const
{
    std::array<double, 3> worst{};
    for (const Rows& r : rows_) {
        auto share = static_cast<double>(r.n_layers);
        worst[0] = larger(worst[0], largest_in_rows(r.n_parts, r.n_layers, r.at.data(), w, a, nullptr, nullptr) / share);
        worst[1] = larger(worst[1], largest_in_rows(r.n_parts, r.n_layers, r.at.data(), w, a, b, nullptr) / share);
        worst[2] = larger(worst[2], largest_in_rows(r.n_parts, r.n_layers, r.at.data(), w, a, b, c) / share);
    }
    for (const Part& part : parts_) {
        auto square = [w](std::size_t i, double v) { return v * w[i] * (v * w[i]); };
        worst[0] = larger(worst[0], mean_of(part.states, part.in_a_row, [&](std::size_t i) { return square(i, a[i]); }));
        worst[1] = larger(worst[1], mean_of(part.states, part.in_a_row, [&](std::size_t i) { return square(i, a[i] + b[i]); }));
        worst[2] = larger(worst[2], mean_of(part.states, part.in_a_row, [&](std::size_t i) { return square(i, a[i] + b[i] + c[i]); }));
    }
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
                worst[s] = larger(worst[s], largest_of(count, sum[s].data()) / static_cast<double>(parts.layers.size()));
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
    auto follow_each_other = [](const std::vector<std::uint32_t>& states) {
        bool row = true;
        for (std::size_t k = 1; k < states.size(); ++k) row &= states[k] == states[0] + k;
        return row;
    };
    constexpr std::size_t kFew = 8;  // parts of one kind: fewer are not worth a loop over them
    std::map<std::size_t, std::size_t> class_of, of_size;
    for (const auto& members : model.error_parts) ++of_size[members.size()];
    for (const auto& members : model.error_parts) {
        if (of_size[members.size()] < kFew) {
            bool row = follow_each_other(members);
            parts_.push_back({members, row});
            continue;
        }
        auto [at, is_new] = class_of.try_emplace(members.size(), classes_.size());
        if (is_new) classes_.emplace_back().layers.resize(members.size());
        Class& c = classes_[at->second];
        ++c.n_parts;
        for (std::size_t k = 0; k < members.size(); ++k) c.layers[k].push_back(members[k]);
    }
    for (Class& c : classes_)
        for (const auto& layer : c.layers) c.in_a_row.push_back(follow_each_other(layer) ? 1 : 0);
    std::erase_if(classes_, [this](const Class& c) {
        Rows r{c.n_parts, c.layers.size(), {}};
        bool rows = c.layers.size() <= r.at.size() && std::all_of(c.in_a_row.begin(), c.in_a_row.end(), [](char in_a_row) { return in_a_row != 0; });
        if (!rows) return false;
        for (std::size_t k = 0; k < c.layers.size(); ++k) r.at[k] = c.layers[k][0];
        rows_.push_back(r);
        return true;
    });
}

double PartNorm::operator()(const double* w, const double* a, const double* b, const double* c) const
{
    double worst = 0;
    for (const Rows& r : rows_) worst = larger(worst, largest_in_rows(r.n_parts, r.n_layers, r.at.data(), w, a, b, c) / static_cast<double>(r.n_layers));
    for (const Part& part : parts_) {
        auto square = [w](std::size_t i, double v) { return v * w[i] * (v * w[i]); };
        double mean = c != nullptr   ? mean_of(part.states, part.in_a_row, [&](std::size_t i) { return square(i, a[i] + b[i] + c[i]); })
                      : b != nullptr ? mean_of(part.states, part.in_a_row, [&](std::size_t i) { return square(i, a[i] + b[i]); })
                                     : mean_of(part.states, part.in_a_row, [&](std::size_t i) { return square(i, a[i]); });
        worst = larger(worst, mean);
    }
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
            worst = larger(worst, largest_of(count, sum.data()) / static_cast<double>(parts.layers.size()));
        });
    }
    return std::sqrt(worst);
}

}  // namespace netloop
