// SPDX-License-Identifier: Apache-2.0
// Dense matrices of linear models: balancing, eigenvalues and the zeros of one input and output.
#pragma once

#include <Eigen/Dense>

#include <complex>
#include <vector>

#include "netloop/linear_model.hpp"

namespace netloop {

Eigen::MatrixXd dense(const Matrix& m);
Matrix listed(const Eigen::Ref<const Eigen::MatrixXd>& m);

/// Scales states so that rows and columns of A become alike in size, by powers of two: S^-1 A S with S = diag(result). Nothing is rounded. Source: Parlett and
/// Reinsch (1969), Numer. Math. 13, 293-304. `with` is a matrix whose last columns beyond `n` are left as they are (inputs and outputs at its border).
Eigen::VectorXd balance(Eigen::MatrixXd& with, Eigen::Index n);

/// Values, with the vectors of each (columns) if asked for, of A as it is. Left vectors: left^T A = lambda left^T.
struct EigenSystem {
    Eigen::VectorXcd values;
    Eigen::MatrixXcd right, left;
};
EigenSystem eigen_system(const Eigen::MatrixXd& a, bool vectors);

/// Zeros of x' = A x + b u, y = c x + d u, and the first coefficient of its answer at high frequencies: y/u -> gain * s^-(poles - zeros). `gain` 0: the input
/// does not reach the output. By deflation. Source: Emami-Naeini and Van Dooren (1982), Automatica 18, 415-430.
std::vector<std::complex<double>> zeros_of(Eigen::MatrixXd a, Eigen::VectorXd b, Eigen::RowVectorXd c, double d, double& gain);

}  // namespace netloop
