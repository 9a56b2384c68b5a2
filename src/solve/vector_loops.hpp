// SPDX-License-Identifier: Apache-2.0
// The loops over all of z that a step makes, each passing once over what it needs: at large sizes these, not the equations, take the time.
#pragma once

#include <array>
#include <cstddef>
#include <cstdint>
#include <vector>

#include "evaluate/compiled_model.hpp"

namespace netloop {

/// Modified divided differences of a method with history, of orders 0 .. order.
struct Differences {
    double* const* phi;
    int order;
};

/// phi_j *= scale[j]; y = sum of phi_j; yp = sum of slope[j] phi_j; e = 0.
void predict(std::size_t n, Differences d, const double* scale, const double* slope, double* y, double* yp, double* e);
/// d = share * delta: y -= d, e -= d, yp -= cj * d. Returns the largest |d w|; not a number if any d is none.
double correct(std::size_t n, double share, double cj, const double* delta, const double* w, double* y, double* yp, double* e);
/// After a step: phi_{order+1} = e if `keep_above`; phi_order += e, and each below += the one above it. Then usual = max(usual, |phi_0|)
/// and w = 1 / (tolerance (|phi_0| + usual)).
void advance(std::size_t n, Differences d, bool keep_above, const double* e, double tolerance, double* usual, double* w);
/// Adams: differences of orders above `same` are scaled; p = y + h times the sum of g_i phi_i, i = 1 .. k; then phi_i += phi_{i+1} from above,
/// with phi_{k+1} = 0, its old value kept in phi_{k+2}.
void adams_predict(std::size_t n, double* const* phi, int k, int same, const double* scale, const double* g, double h, const double* y, double* p);
/// phi_{k+1} = f - phi_1, phi_{k+2} = phi_{k+1} - phi_{k+2}, phi_i += phi_{k+1}; weights of y as advance() makes them.
void adams_advance(std::size_t n, double* const* phi, int k, const double* f, const double* y, double tolerance, double* usual, double* w);
/// usual = max(usual, |v|), w = 1 / (tolerance (|v| + usual)): what errors of v are measured by.
void weigh(std::size_t n, double tolerance, const double* v, double* usual, double* w);
/// Indices ordered by |e w|, the largest first.
std::vector<std::size_t> worst_first(const std::vector<double>& e, const std::vector<double>& w);
/// to[i] = memory[places[i]]; false if one is not finite.
bool gather(std::size_t n, const double* memory, const std::uint32_t* places, double* to);
/// The same where places are known for their stretches: those that follow each other are copied.
class Gathering {
public:
    Gathering() = default;
    explicit Gathering(const std::vector<std::uint32_t>& places);
    /// to[i] = sign * memory[places[i]]; false if one is not finite.
    bool operator()(double sign, const double* memory, double* to) const;

private:
    struct Stretch {
        std::uint32_t place = 0, n = 0;
    };
    std::vector<Stretch> stretches_;
    std::vector<std::uint32_t> places_;  ///< where there are hardly any
};

/// The error norm: over the states of each part the root of the mean square, then the largest; so it does not get more lenient as the
/// machine gets more parts. Each cell of an array counts as a part. Members of z that are no states are left out.
class PartNorm {
public:
    explicit PartNorm(const CompiledModel& model);
    /// Of (a + b + c) w; b and c may be null.
    double operator()(const double* w, const double* a, const double* b = nullptr, const double* c = nullptr) const;

    /// Of a, a + b and a + b + c at once.
    std::array<double, 3> of_sums(const double* w, const double* a, const double* b, const double* c) const;
    /// The length of a first step over `distance` from values that change at `rates`: half a tolerance's worth of change, and at most a
    /// thousandth of the distance.
    double first_step(const double* w, const double* rates, double distance) const;

private:
    /// Many parts with equally many states; layer k lists the k-th state of each.
    struct Class {
        std::size_t n_parts = 0;
        std::vector<std::vector<std::uint32_t>> layers;
        std::vector<char> in_a_row;  ///< per layer: its states follow each other in z
    };
    /// One part of few of its kind.
    struct Part {
        std::vector<std::uint32_t> states;
        bool in_a_row = false;
    };
    /// A class of few layers, all in rows.
    struct Rows {
        std::size_t n_parts = 0, n_layers = 0;
        std::array<std::size_t, 3> at{};  ///< where each layer begins
    };
    std::vector<Class> classes_;
    std::vector<Part> parts_;
    std::vector<Rows> rows_;
};

}  // namespace netloop
