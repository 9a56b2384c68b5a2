// SPDX-License-Identifier: Apache-2.0
// A run at one point, and what follows there from small changes: F(t, z, z', p) = 0 brought to x' = A x + B u, y = C x + D u with x the states of the moment.
#pragma once

#include <Eigen/Dense>

#include <complex>
#include <memory>
#include <string>
#include <vector>

#include "algebra/tape.hpp"
#include "linear/sparse_lu.hpp"
#include "solve/consistent.hpp"

namespace netloop {

/// Derivatives of one system by everything that stands in it; made once, then moved from point to point. For one thread.
struct Sensitivities {
    explicit Sensitivities(std::shared_ptr<const CompiledModel> of);

    std::shared_ptr<const CompiledModel> model;
    std::vector<std::string> names;  ///< of the members of z
    std::shared_ptr<Graph> graph;    ///< a copy, for derivatives to be added to
    Tape equations;                  ///< roots: the residuals
    Tape outputs;                    ///< roots: the outputs
    Tape params;                     ///< roots: the values of params, in the order of `settled`, level after level
    std::vector<ParameterId> settled;
    /// Per residual: what may stand at a corner in it (|x|, min, max), and the conditions that choose in it.
    std::vector<std::vector<NodeId>> may_turn;
    std::vector<std::vector<std::uint32_t>> chosen_by;
};

/// The point at which an evaluation stands. Throws NumericFailure if the rates are not settled there.
class Point {
public:
    using Complex = Tape::Complex;
    /// The state is one that the equations agree with; the evaluation is left standing there.
    Point(Sensitivities& of, Evaluation& evaluation, const State& s);

    const CompiledModel& model() const { return *of_.model; }
    /// Members of z that are states at the moment, in their order. A param that the start has found is none: it is held.
    const std::vector<std::uint32_t>& states() const { return states_; }
    std::size_t n() const { return states_.size(); }
    const std::string& name(std::uint32_t member) const { return of_.names[member]; }
    double value(std::uint32_t member) const { return s_.z[member]; }
    double output(std::size_t i);
    double parameter(ParameterId p) const { return e_.parameter(p); }

    /// What the unknowns (z' of states, z of all else; by member of z) are, where they meet M y = right; in place. And with M transposed.
    void solve(std::vector<double>& y);
    void solve_transposed(std::vector<double>& y);

    /// Residuals in which an operation stands at a corner, or that read the mode of a condition that is at its zero: slopes differ to both sides.
    std::vector<std::uint32_t> at_corners();
    /// A, dense: cost one solution per state.
    Eigen::MatrixXd a();
    /// A x and A^T x, for systems too large to hold A: one solution each.
    Eigen::VectorXd times_a(const Eigen::Ref<const Eigen::VectorXd>& x, bool transposed);
    /// (A - shift)^-1 x, and transposed: one solution with a matrix that is factored when the shift changes. Throws NumericFailure if that is singular.
    Eigen::VectorXd times_shifted_inverse(double shift, const Eigen::Ref<const Eigen::VectorXd>& x, bool transposed);
    Eigen::VectorXcd times_shifted_inverse(Complex shift, const Eigen::Ref<const Eigen::VectorXd>& x, bool transposed);

    /// One number of F's slopes: by z, and by z' of what has a rate.
    struct Entry {
        std::uint32_t row = 0, column = 0;
        double by_z = 0, by_rate = 0;
    };
    std::vector<Entry> entries() const;
    /// F's slopes by a param and what follows from it, all unknowns held.
    std::vector<double> residuals_by_parameter(ParameterId p);
    /// An output's own slopes, nothing following: by each member of z (or its rate) that it reads.
    std::vector<Entry> output_entries(std::size_t output);
    double output_by_parameter_alone(std::size_t output, ParameterId p);

    /// The unknowns' slopes by a param and all that follows from it, states held.
    std::vector<double> by_parameter(ParameterId p);
    /// The slopes of an output by the states, everything else following; and by params, states held (of those asked for).
    Eigen::RowVectorXd output_by_states(std::size_t output);
    double output_by_parameter(std::size_t output, ParameterId p);

    /// d(lambda)/dp of an eigenvalue of A by every param, states held and everything else following: second derivatives, by two sweeps each way. `right`,
    /// `left`: its vectors, by state, left^T A = lambda left^T. What a param does through those that follow from it is its own.
    std::vector<Complex> eigenvalue_by_parameters(const Eigen::VectorXcd& right, const Eigen::VectorXcd& left);

private:
    double leaf(const Node& n) const;
    void take_means_at_corners();
    bool has_rate(std::size_t member) const { return e_.is_state(member); }
    /// M; with a shift, dF/dx + shift dF/dx' in the columns of states instead.
    std::unique_ptr<SparseLU> factored(bool transposed, const double* shift = nullptr) const;
    std::vector<double> spread(const Eigen::Ref<const Eigen::VectorXd>& x, const std::vector<double>* half) const;
    Eigen::VectorXd gathered(const std::vector<double>& y, const std::vector<double>* half) const;
    void solve_complex(std::vector<Complex>& y, bool transposed);
    void look_at_outputs();
    void look_at_params();
    const std::vector<Complex>& moved_by(ParameterId p);
    std::vector<Complex> residuals_by(ParameterId p);
    /// Slopes of an output by leaf, and M^-T times those by the unknowns.
    void take_output(std::size_t output);
    void output_gradient(std::size_t output);

    Sensitivities& of_;
    Evaluation& e_;
    State s_;
    std::vector<std::uint32_t> states_;
    std::vector<char> moves_;  ///< per member of z: it is one of states_
    std::vector<double> by_z_, by_rate_;
    std::unique_ptr<SparseLU> lu_, transposed_, shifted_, shifted_transposed_;
    double shift_ = 0;
    struct ComplexShifted;
    std::shared_ptr<ComplexShifted> complex_shifted_;
    bool outputs_looked_at_ = false, params_looked_at_ = false;
    ParameterId mover_ = 0;
    std::vector<Complex> moves_by_param_;  ///< by mover_, per param
    std::size_t taken_ = static_cast<std::size_t>(-1), graded_ = static_cast<std::size_t>(-1);
    std::vector<Complex> output_by_leaf_;
    std::vector<double> output_adjoint_;
};

}  // namespace netloop
