// SPDX-License-Identifier: Apache-2.0
// Points in the unit cube: how a study of some hundred runs fills the space of what it varies. All of them follow from the seed alone, on every machine.
#pragma once

#include <cstddef>
#include <cstdint>
#include <random>
#include <vector>

namespace netloop {

/// n points of k coordinates, one after the other: point i is [i * k, i * k + k).
struct Points {
    std::size_t n = 0, k = 0;
    std::vector<double> u;
    const double* operator[](std::size_t i) const { return u.data() + i * k; }
    double* operator[](std::size_t i) { return u.data() + i * k; }
};

/// A pseudo-random sequence of which every bit is the same on all machines: Mersenne Twister (Matsumoto, Nishimura 1998), 53 bits a number, none of them 0
/// or 1.
class Draws {
public:
    explicit Draws(std::uint64_t seed) : engine_(seed) {}
    double next();
    /// 0 .. n - 1.
    std::size_t below(std::size_t n);

private:
    std::mt19937_64 engine_;  ///< its bits are fixed by the standard, unlike those of the distributions
};

/// The Sobol sequence (Sobol 1967; direction numbers of Joe and Kuo 2008) as Boost.Random has it. `seed` 0: as published, from its second point on (the first
/// is 0). Else each coordinate is shifted by exclusive or with a number of its own (Cranley and Patterson's shift in base 2: L'Ecuyer, Lemieux 2002), which
/// keeps how evenly the points lie; none is 0 or 1. k up to 3,667.
Points sobol_points(std::size_t n, std::size_t k, std::uint64_t seed);
/// Latin hypercube (McKay, Beckman, Conover 1979): in each coordinate one point in each n-th.
Points latin_points(std::size_t n, std::size_t k, std::uint64_t seed);
Points random_points(std::size_t n, std::size_t k, std::uint64_t seed);
/// For indices of variance (Saltelli 2010, Comput. Phys. Commun. 181, table 2): for each of n base points A, then B, then A with coordinate j from B for each
/// j: n * (k + 2) points.
Points variance_points(std::size_t n, std::size_t k, std::uint64_t seed);
/// Trajectories of Morris (1991, Technometrics 33) on four levels: each begins at random and changes one coordinate after the other by 2/3, in an order of its
/// own: n * (k + 1) points. Coordinates lie at 1/8, 3/8, 5/8, 7/8, so that no distribution is asked for its ends.
Points morris_points(std::size_t n, std::size_t k, std::uint64_t seed);

/// The lower triangle L (row by row, k * k) with L L' = r, a matrix of correlations; empty if r is none (no positive definite matrix).
std::vector<double> triangle_of(const std::vector<double>& r, std::size_t k);
/// Gives points a rank correlation: each coordinate to normal scores, mixed by L, back (Gaussian copula). Each coordinate stays evenly distributed.
void correlate(Points& points, const std::vector<double>& triangle);
/// The correlation of normal scores that has this rank correlation (Pearson 1907): 2 sin(pi r / 6).
double correlation_of_scores(double rank);

}  // namespace netloop
