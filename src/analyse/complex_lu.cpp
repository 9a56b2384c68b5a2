// SPDX-License-Identifier: Apache-2.0
#include "analyse/complex_lu.hpp"

#include <cmath>

namespace netloop {

bool ComplexLU::factor(Eigen::Index n, const std::vector<Eigen::Triplet<Complex>>& entries)
{
    Eigen::SparseMatrix<Complex> matrix(n, n);
    matrix.setFromTriplets(entries.begin(), entries.end());
    rows_ = Eigen::VectorXd::Zero(n);
    for (Eigen::Index c = 0; c < n; ++c)
        for (Eigen::SparseMatrix<Complex>::InnerIterator it(matrix, c); it; ++it) rows_(it.row()) = std::max(rows_(it.row()), std::abs(it.value()));
    for (double& v : rows_) v = v > 0 && std::isfinite(v) ? 1 / v : 1;
    matrix = rows_.cast<Complex>().asDiagonal() * matrix;
    matrix.makeCompressed();
    if (n == 0) return true;
    lu_.compute(matrix);
    return lu_.info() == Eigen::Success;
}

Eigen::VectorXcd ComplexLU::solve(const Eigen::VectorXcd& right) const
{
    if (right.size() == 0) return right;
    return lu_.solve(Eigen::VectorXcd(rows_.cast<Complex>().cwiseProduct(right)));
}

Eigen::VectorXcd ComplexLU::solve_transposed(const Eigen::VectorXcd& right)
{
    if (right.size() == 0) return right;
    Eigen::VectorXcd y = lu_.transpose().solve(right);
    return rows_.cast<Complex>().cwiseProduct(y);
}

}  // namespace netloop
