// SPDX-License-Identifier: Apache-2.0
#include "analyse/dense.hpp"

#include <Eigen/Eigenvalues>

#include <algorithm>
#include <cmath>
#include <numeric>

namespace netloop {

Eigen::MatrixXd dense(const Matrix& m)
{
    return Eigen::Map<const Eigen::Matrix<double, Eigen::Dynamic, Eigen::Dynamic, Eigen::RowMajor>>(m.values.data(), static_cast<Eigen::Index>(m.rows),
                                                                                                    static_cast<Eigen::Index>(m.columns));
}

Matrix listed(const Eigen::Ref<const Eigen::MatrixXd>& m)
{
    Matrix list(static_cast<std::size_t>(m.rows()), static_cast<std::size_t>(m.cols()));
    for (std::size_t i = 0; i < list.rows; ++i)
        for (std::size_t k = 0; k < list.columns; ++k) list(i, k) = m(static_cast<Eigen::Index>(i), static_cast<Eigen::Index>(k));
    return list;
}

Eigen::VectorXd balance(Eigen::MatrixXd& a, Eigen::Index n)
{
    constexpr double kGain = 0.95;
    constexpr int kMostSweeps = 30;
    Eigen::VectorXd scale = Eigen::VectorXd::Ones(n);
    bool changed = true;
    for (int sweep = 0; sweep < kMostSweeps && changed; ++sweep) {
        changed = false;
        for (Eigen::Index i = 0; i < n; ++i) {
            double column = a.col(i).cwiseAbs().sum() - std::abs(a(i, i)), row = a.row(i).cwiseAbs().sum() - std::abs(a(i, i));
            if (column == 0 || row == 0 || !std::isfinite(column) || !std::isfinite(row)) continue;
            double factor = std::exp2(std::round(0.5 * std::log2(row / column)));
            if (factor == 1 || column * factor + row / factor >= kGain * (column + row)) continue;
            changed = true;
            scale(i) *= factor;
            a.col(i) *= factor;
            a.row(i) /= factor;
        }
    }
    return scale;
}

namespace {

// How often 0 is an eigenvalue, however its vectors hang together: as long as there are directions in which nothing changes, they are taken off. Where 0 comes
// twice with one vector (a shaft that turns freely: angle and speed), the algorithm of the others would see it a root of the rounding away from 0. Source:
// Kublanovskaya (1966), USSR Comput. Math. 6(4), 1-16 (the staircase).
Eigen::Index times_zero(Eigen::MatrixXd a)
{
    constexpr double kDependent = 1e-13;
    Eigen::Index count = 0;
    while (a.rows() > 0) {
        Eigen::MatrixXd rows = a;  // what is not changed: scaled rows have the same null space
        Eigen::Index zero_rows = 0;
        for (Eigen::Index i = 0; i < rows.rows(); ++i) {
            double size = rows.row(i).norm();
            if (size > 0)
                rows.row(i) /= size;
            else
                ++zero_rows;
        }
        Eigen::ColPivHouseholderQR<Eigen::MatrixXd> qr(rows.transpose());
        Eigen::Index rank = 0;
        const auto& r = qr.matrixR();
        while (rank < a.rows() && std::abs(r(rank, rank)) > kDependent * std::sqrt(static_cast<double>(a.rows()))) ++rank;
        if (rank == a.rows()) break;
        count += a.rows() - rank;
        Eigen::MatrixXd q = qr.householderQ();
        Eigen::MatrixXd rest = q.leftCols(rank).transpose() * a * q.leftCols(rank);
        // what only rounding has left is nothing
        double least = 1e-15 * a.norm();
        a = rest.unaryExpr([least](double v) { return std::abs(v) <= least ? 0.0 : v; });
    }
    return count;
}

}  // namespace

EigenSystem eigen_system(const Eigen::MatrixXd& a, bool vectors)
{
    EigenSystem result;
    if (a.rows() == 0) return result;
    Eigen::MatrixXd balanced = a;
    Eigen::VectorXd scale = balance(balanced, a.rows());
    // Of the turned triangle both kinds of vectors cost little: it is what the search for eigenvalues takes nearly all of its time for.
    Eigen::RealSchur<Eigen::MatrixXd> schur(balanced, vectors);
    Eigen::EigenSolver<Eigen::MatrixXd> solver(schur.matrixT(), vectors);
    result.values = solver.eigenvalues();
    std::vector<Eigen::Index> by_size(static_cast<std::size_t>(a.rows()));
    std::iota(by_size.begin(), by_size.end(), Eigen::Index(0));
    std::sort(by_size.begin(), by_size.end(), [&](Eigen::Index i, Eigen::Index k) { return std::abs(result.values(i)) < std::abs(result.values(k)); });
    Eigen::Index zeros = times_zero(balanced);
    for (Eigen::Index k = 0; k < zeros; ++k) result.values(by_size[static_cast<std::size_t>(k)]) = 0;
    if (!vectors) return result;
    const Eigen::MatrixXcd right = solver.eigenvectors();
    // Left vectors are those of the transposed triangle, turned over so that it is an upper one again. The inverse of the right ones would be lost where
    // vectors are nearly the same.
    const Eigen::MatrixXd turned_over = schur.matrixT().transpose().reverse();
    Eigen::EigenSolver<Eigen::MatrixXd> other(turned_over, true);
    const Eigen::MatrixXcd others = other.eigenvectors().colwise().reverse();
    const Eigen::VectorXcd other_values = other.eigenvalues();
    Eigen::MatrixXcd left(a.rows(), a.rows());
    std::vector<char> taken(static_cast<std::size_t>(a.rows()), 0);
    constexpr double kSame = 1e-12;
    const double nothing = 1e-30 + kSame * balanced.norm();
    std::vector<std::pair<double, Eigen::Index>> near;
    for (Eigen::Index k = 0; k < a.rows(); ++k) {
        // of values that are (nearly) the same, the vector that is not orthogonal to the right one
        near.clear();
        for (Eigen::Index i = 0; i < a.rows(); ++i)
            if (taken[static_cast<std::size_t>(i)] == 0)
                near.emplace_back(std::abs(other_values(i) - result.values(k)) / (std::abs(result.values(k)) + nothing), i);
        std::sort(near.begin(), near.end());
        Eigen::Index best = near.front().second;
        double best_score = -1;
        for (const auto& [away, i] : near) {
            if (1 / (kSame + away) < best_score) break;  // products of vectors of length one are one at most
            std::complex<double> product = others.col(i).transpose() * right.col(k);
            double score = std::abs(product) / (kSame + away);
            if (score > best_score) best_score = score, best = i;
        }
        taken[static_cast<std::size_t>(best)] = 1;
        left.col(k) = others.col(best);
    }
    result.right = scale.asDiagonal() * (schur.matrixU() * right);
    result.left = scale.cwiseInverse().asDiagonal() * (schur.matrixU() * left);
    return result;
}

std::vector<std::complex<double>> zeros_of(Eigen::MatrixXd a, Eigen::VectorXd b, Eigen::RowVectorXd c, double d, double& gain)
{
    constexpr double kNothing = 1e-12;
    gain = 1;
    {
        // states to scale with what acts on them and what is seen of them
        Eigen::Index n = a.rows();
        Eigen::MatrixXd all = Eigen::MatrixXd::Zero(n + 1, n + 1);
        double reach = std::max(a.norm(), 1e-300), acts = std::max(b.norm(), 1e-300), seen = std::max(c.norm(), 1e-300);
        all.topLeftCorner(n, n) = a;
        all.topRightCorner(n, 1) = b * (reach / acts);
        all.bottomLeftCorner(1, n) = c * (reach / seen);
        Eigen::VectorXd scale = balance(all, n);
        a = all.topLeftCorner(n, n);
        b = scale.cwiseInverse().asDiagonal() * b;
        c = c * scale.asDiagonal();
    }
    const double whole_b = b.norm(), whole_a = a.norm();
    for (;;) {
        Eigen::Index n = a.rows();
        double size = a.norm();
        double least = std::max(n > 0 && size > 0 ? kNothing * c.norm() * b.norm() / size : 0, 0.0);
        if (std::abs(d) > least) break;
        if (n == 0 || c.norm() <= kNothing * (gain == 1 ? 0 : whole_a) || c.norm() == 0 || whole_b == 0) {
            gain = 0;
            return {};
        }
        // states turned so that the output is the last of them; it is zero, and what is left has its rate as the output
        Eigen::VectorXd v = c.transpose();
        double length = v.norm(), sign = v(n - 1) < 0 ? -1 : 1;
        Eigen::VectorXd w = v;
        w(n - 1) += sign * length;
        double square = w.squaredNorm();
        if (square > 0) {
            auto reflect_rows = [&](auto& m) { m -= (2 / square) * w * (w.transpose() * m); };
            reflect_rows(a);
            a -= (2 / square) * (a * w) * w.transpose();
            reflect_rows(b);
        }
        gain *= -sign * length;
        d = b(n - 1);
        c = a.row(n - 1).head(n - 1);
        if (std::abs(d) <= 1e-14 * whole_b) d = 0;
        Eigen::MatrixXd rest = a.topLeftCorner(n - 1, n - 1);
        Eigen::VectorXd rest_b = b.head(n - 1);
        a = std::move(rest);
        b = std::move(rest_b);
    }
    gain *= d;
    Eigen::MatrixXd inverse_system = a - b * c / d;
    std::vector<std::complex<double>> zeros;
    Eigen::VectorXcd values = eigen_system(inverse_system, false).values;
    for (Eigen::Index i = 0; i < values.size(); ++i) zeros.push_back(values(i));
    return zeros;
}

}  // namespace netloop
