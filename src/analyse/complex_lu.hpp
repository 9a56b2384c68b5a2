// SPDX-License-Identifier: Apache-2.0
// Sparse equations with complex numbers, as they stand at a point of the complex plane.
#pragma once

#include <Eigen/Sparse>
#include <Eigen/SparseLU>

#include <complex>
#include <vector>

namespace netloop {

/// LU decomposition of a square matrix by Eigen, rows brought to one size first: equations of unlike units must not choose the pivots.
class ComplexLU {
public:
    using Complex = std::complex<double>;
    /// Numbers in one place are added. False: it is singular.
    bool factor(Eigen::Index n, const std::vector<Eigen::Triplet<Complex>>& entries);
    Eigen::VectorXcd solve(const Eigen::VectorXcd& right) const;
    Eigen::VectorXcd solve_transposed(const Eigen::VectorXcd& right);

private:
    Eigen::SparseLU<Eigen::SparseMatrix<Complex>, Eigen::COLAMDOrdering<int>> lu_;
    Eigen::VectorXd rows_;  ///< what each row was multiplied by
};

}  // namespace netloop
