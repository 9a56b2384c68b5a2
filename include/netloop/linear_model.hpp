// SPDX-License-Identifier: Apache-2.0
// Linear models of a run at a point: x' = A x + B u, y = C x + D u, and what a control engineer reads off them.
#pragma once

#include <complex>
#include <cstddef>
#include <cstdint>
#include <limits>
#include <string>
#include <utility>
#include <vector>

namespace netloop {

/// Numbers in rows and columns.
struct Matrix {
    std::size_t rows = 0, columns = 0;
    std::vector<double> values;  ///< row after row
    /// All zero.
    Matrix(std::size_t n_rows = 0, std::size_t n_columns = 0) : rows(n_rows), columns(n_columns), values(n_rows * n_columns, 0.0) {}
    /// The number in row i, column k, from 0; not looked at whether it is there.
    double& operator()(std::size_t i, std::size_t k) { return values[i * columns + k]; }
    double operator()(std::size_t i, std::size_t k) const { return values[i * columns + k]; }
};

/// Numbers of a matrix that is mostly zero: column after column, in each by rows, counted from 0.
struct SparseMatrix {
    std::size_t rows = 0, columns = 0;
    std::vector<std::uint32_t> row, column;
    std::vector<double> value;
};

/// What a linear model is asked for.
struct LinearRequest {
    /// What acts: inputs of the system, params (held, but for the small change), and signals named in CompileRequest::linear_inputs. A signal that a part gives
    /// is cut where it is read: its source no longer acts, the input does.
    std::vector<std::string> inputs{};
    /// What is looked at: any quantity, let or recorded rate; for an input, what its cut source gives, as `source of PATH`.
    std::vector<std::string> outputs{};
    /// For each of these signals: an input where it is read, and an output at what gives it: the open loop.
    std::vector<std::string> open{};
    /// False: inputs are added to what their sources give, and loops stay closed, as in a run.
    bool cut = true;
};

/// A pole or a zero, rad/s.
struct Root {
    std::complex<double> value;
    /// |value| / 2 pi, Hz.
    double frequency() const;
    /// -re / |value|: 1 and more does not swing, below 0 grows. 1 for 0.
    double damping() const;
    /// -1 / re, s; infinite on the imaginary axis.
    double time_constant() const;
};

/// From one input to one output: gain * product(s - zero) / product(s - pole).
struct TransferFunction {
    std::vector<std::complex<double>> zeros, poles;
    double gain = 0;
    /// Pairs that were left out, since pole and zero are (nearly) the same: states that the input does not move or the output does not see.
    std::vector<std::pair<std::complex<double>, std::complex<double>>> cancelled;
    /// Largest relative difference to the model itself, over frequencies around all poles and zeros: what rounding left of it.
    double error = 0;
    /// Coefficients, highest power first; the denominator begins with 1 (with the gain in the numerator).
    std::vector<double> numerator() const, denominator() const;
    /// Its value where nothing moves any more; infinite with a pole at 0.
    double steady_gain() const;
    /// Value at s.
    std::complex<double> at(std::complex<double> s) const;
    /// "1 / (s^2 + s + 1)"; above order 8 as a product of factors.
    std::string text() const;
};

/// How far an open loop is from swinging by itself once closed. Of `return_difference`: the signal that comes back is -L times the one that goes out.
struct Margins {
    double phase = std::numeric_limits<double>::infinity();  ///< deg, at the frequency where |L| = 1; the least of several
    double phase_at = 0;                                     ///< Hz; 0: |L| is never 1
    double gain = std::numeric_limits<double>::infinity();   ///< factor by which L may grow; below 1 where it must; the one nearest to 1
    double gain_at = 0;                                      ///< Hz; 0: the phase is never -180 deg
    double delay = std::numeric_limits<double>::infinity();  ///< s, that the loop may be late by
    bool stable = true;                                      ///< the loop as it is, closed
};

/// A linear model, in SI or in the units of its quantities. The model holds for small changes around the point; nothing of it is the run's any more.
struct LinearModel {
    struct Signal {
        std::string name, unit;  ///< the unit of the numbers
        std::string display;     ///< that of its declaration, for a difference: K where the value is in degC
        double scale = 1;        ///< SI per display unit
        double at = 0;           ///< value at the point, SI
    };
    double time = 0;  ///< s
    std::vector<Signal> states, inputs, outputs;
    Matrix a, b, c, d;
    Matrix e;   ///< y += E u': not empty where rates of inputs enter (inverse models)
    Matrix e2;  ///< y += E2 u''
    std::vector<std::string> notes;
    bool in_display_units = false;

    /// The same with all numbers in the units of the declarations.
    LinearModel displayed() const;
    /// Eigenvalues of A, slowest first. Cost n^3. Source: QR algorithm on the balanced matrix (Parlett and Reinsch 1969).
    std::vector<Root> poles() const;
    /// Zeros by deflation (Emami-Naeini and Van Dooren 1982). `tolerance`: pole and zero that differ by less, as a share of their size, cancel. Throws
    /// UsageError for numbers out of range.
    TransferFunction transfer(std::size_t input, std::size_t output, double tolerance = 1e-6) const;
    /// y/u at frequencies in Hz. Cost n^3 once, n^2 each (Laub 1981).
    std::vector<std::complex<double>> response(std::size_t input, std::size_t output, const std::vector<double>& hertz) const;
    /// The answer of an output to a unit step of an input, from rest at the point, at ascending times in s. By the exponential of A over each stretch; an
    /// impulse that E gives at 0 is left out.
    std::vector<double> step(std::size_t input, std::size_t output, const std::vector<double>& times) const;
    /// Of the loop that is closed by y = u with the sign in it (negative feedback): L = -y/u.
    Margins margins(std::size_t input, std::size_t output) const;
    /// Frequencies in Hz, log-spaced, a decade and a half beyond all poles and zeros of the pair that are neither 0 nor very far.
    std::vector<double> frequencies(std::size_t input, std::size_t output, std::size_t n = 400) const;

    /// As `netloop linear` prints it: states, inputs, outputs, poles, zeros, transfer functions, notes.
    std::string text(double tolerance = 1e-6) const;
    /// All of it as JSON; matrices as lists of rows.
    std::string json(double tolerance = 1e-6) const;
    /// To a file, by its name: .json, .csv (a block of rows for each matrix), .h5 (data sets a, b, c, d ... with names and units) or .mat (level 5: variables
    /// A, B, C, D ..., names as cells). `inputs` are files that are never written over. Throws RecordingError.
    void save(const std::string& path, const std::vector<std::string>& inputs = {}) const;
};

/// The same of a system with too many states for tables: E z' = A z + B u, y = C z + D u, with z all unknowns that the compiled equations have, states or not;
/// what is cut and rates of inputs are unknowns and equations of their own, so that nothing but u acts.
struct DescriptorModel {
    double time = 0;  ///< s
    std::vector<LinearModel::Signal> unknowns, inputs, outputs;
    std::size_t n_states = 0;  ///< of the unknowns: the order of the system
    SparseMatrix e, a, b, c, d;
    std::vector<std::string> notes;
    bool in_display_units = false;

    /// The same with all numbers in the units of the declarations.
    DescriptorModel displayed() const;
    /// y/u at frequencies in Hz: an elimination for each (Eigen's sparse LU). NaN where s E - A is singular. Throws UsageError for numbers out of range.
    std::vector<std::complex<double>> response(std::size_t input, std::size_t output, const std::vector<double>& hertz) const;
    /// As `netloop linear` prints it: sizes, inputs, outputs, gains where nothing moves any more, notes.
    std::string text() const;
    /// All of it as JSON; matrices as lists of rows, columns and values, counted from 0.
    std::string json() const;
    /// To a file, by its name: .json, .csv (a row for each number), .h5 (a group for each matrix with `row`, `column`, `value`) or .mat (level 5: sparse
    /// variables A, B, C, D, E). Throws RecordingError.
    void save(const std::string& path, const std::vector<std::string>& inputs = {}) const;
};

/// Which step a linear model is held against the model itself with.
struct LinearCheckOptions {
    std::size_t input = 0;                                  ///< of the request
    double size = 0;                                        ///< of the step, SI; 0: one percent of the input's value, or of its unit if that is more
    double until = 0;                                       ///< s after the point; 0: until the slowest pole has settled, at most `most`
    double most = std::numeric_limits<double>::infinity();  ///< s
};

/// How far a linear model, its loops closed, is from the model itself, for a step of one input.
struct LinearCheck {
    std::string input;
    double size = 0;              ///< of the step, SI
    double until = 0;             ///< s after the point
    bool ended_by_event = false;  ///< both were followed up to an event only
    struct Output {
        std::string name, unit;
        double largest = 0;                       ///< difference between both answers, SI
        double range = 0;                         ///< of the real answer, SI
        double at = 0;                            ///< s after the point
        std::vector<double> times, real, linear;  ///< s after the point; changes from the point, SI
    };
    std::vector<Output> outputs;
    /// The largest difference of an output, as a share of its real answer; 0 for one that does not answer.
    double worst() const;
    /// A line for each output.
    std::string text() const;
};

}  // namespace netloop
