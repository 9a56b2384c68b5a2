// SPDX-License-Identifier: Apache-2.0
// What is read off a linear model: poles, zeros, transfer functions, answers over frequency and time, margins.
#include "netloop/linear_model.hpp"

#include <fmt/format.h>

#include <Eigen/Eigenvalues>
#include <unsupported/Eigen/MatrixFunctions>

#include <algorithm>
#include <cmath>
#include <numbers>

#include "analyse/dense.hpp"
#include "netloop/error.hpp"

namespace netloop {
namespace {

using Complex = std::complex<double>;
constexpr double kTurn = 2 * std::numbers::pi;

// Coefficients of the product of (s - root), highest power first. What is left of terms that cancel is 0.
std::vector<double> polynomial(const std::vector<Complex>& roots)
{
    constexpr double kRounding = 1e-12;
    std::vector<Complex> value{1.0};
    std::vector<double> size{1.0};
    for (Complex root : roots) {
        value.push_back(0);
        size.push_back(0);
        for (std::size_t k = value.size() - 1; k > 0; --k) {
            value[k] -= root * value[k - 1];
            size[k] += std::abs(root) * size[k - 1];
        }
    }
    std::vector<double> real;
    for (std::size_t k = 0; k < value.size(); ++k) real.push_back(std::abs(value[k].real()) <= kRounding * size[k] ? 0 : value[k].real());
    return real;
}

void check_numbers(const LinearModel& m, std::size_t input, std::size_t output)
{
    if (input >= m.inputs.size() || output >= m.outputs.size())
        throw UsageError(fmt::format("a linear model with {} inputs and {} outputs has no input {} with output {} (counted from 0)", m.inputs.size(),
                                     m.outputs.size(), input, output));
}

double entry(const Matrix& m, std::size_t i, std::size_t k)
{
    return m.values.empty() ? 0 : m(i, k);
}

bool slower(const Root& x, const Root& y)
{
    double a = std::abs(x.value), b = std::abs(y.value);
    if (std::abs(a - b) > 1e-9 * std::max(a, b)) return a < b;
    if (std::abs(x.value.real() - y.value.real()) > 1e-9 * a) return x.value.real() > y.value.real();
    return x.value.imag() > y.value.imag();
}

// y/u at many s: A brought to Hessenberg form once, then an elimination of n^2 each.
class Answers {
public:
    Answers(const LinearModel& m, std::size_t input, std::size_t output) : n_(static_cast<Eigen::Index>(m.states.size()))
    {
        d_ = m.d(output, input), e_ = entry(m.e, output, input), e2_ = entry(m.e2, output, input);
        if (n_ == 0) return;
        Eigen::MatrixXd a = dense(m.a);
        Eigen::VectorXd b = dense(m.b).col(static_cast<Eigen::Index>(input));
        Eigen::RowVectorXd c = dense(m.c).row(static_cast<Eigen::Index>(output));
        Eigen::VectorXd scale = balance(a, n_);
        b = scale.cwiseInverse().asDiagonal() * b;
        c = c * scale.asDiagonal();
        Eigen::HessenbergDecomposition<Eigen::MatrixXd> form(a);
        Eigen::MatrixXd q = form.matrixQ();
        h_ = form.matrixH();
        b_ = q.transpose() * b;
        c_ = c * q;
    }
    Complex at(Complex s)
    {
        Complex direct = d_ + s * (e_ + s * e2_);
        if (n_ == 0) return direct;
        work_ = -h_.cast<Complex>();
        work_.diagonal().array() += s;
        x_ = b_.cast<Complex>();
        for (Eigen::Index k = 0; k + 1 < n_; ++k) {
            if (std::abs(work_(k + 1, k)) > std::abs(work_(k, k))) {
                work_.row(k).tail(n_ - k).swap(work_.row(k + 1).tail(n_ - k));
                std::swap(x_(k), x_(k + 1));
            }
            if (work_(k + 1, k) == 0.0) continue;
            Complex factor = work_(k + 1, k) / work_(k, k);
            work_.row(k + 1).tail(n_ - k) -= factor * work_.row(k).tail(n_ - k);
            x_(k + 1) -= factor * x_(k);
        }
        for (Eigen::Index k = n_; k-- > 0;) {
            if (k + 1 < n_) x_(k) -= (work_.row(k).tail(n_ - k - 1) * x_.tail(n_ - k - 1))(0);
            x_(k) /= work_(k, k);
        }
        return (c_.cast<Complex>() * x_)(0) + direct;
    }

private:
    Eigen::Index n_;
    double d_ = 0, e_ = 0, e2_ = 0;
    Eigen::MatrixXd h_;
    Eigen::VectorXd b_;
    Eigen::RowVectorXd c_;
    Eigen::MatrixXcd work_;
    Eigen::VectorXcd x_;
};

std::vector<Complex> values_of(const Eigen::MatrixXd& a)
{
    Eigen::VectorXcd values = eigen_system(a, false).values;
    return {values.data(), values.data() + values.size()};
}

}  // namespace

double Root::frequency() const
{
    return std::abs(value) / kTurn;
}
double Root::damping() const
{
    double size = std::abs(value);
    return size == 0 ? 1 : -value.real() / size;
}
double Root::time_constant() const
{
    return value.real() == 0 ? std::numeric_limits<double>::infinity() : -1 / value.real();
}

std::vector<double> TransferFunction::numerator() const
{
    std::vector<double> list = polynomial(zeros);
    for (double& v : list) v *= gain;
    return list;
}

std::vector<double> TransferFunction::denominator() const
{
    return polynomial(poles);
}

double TransferFunction::steady_gain() const
{
    return at(0).real();
}

Complex TransferFunction::at(Complex s) const
{
    // pole and zero by turns, so that neither product leaves the range of numbers
    Complex value = gain;
    for (std::size_t k = 0; k < std::max(zeros.size(), poles.size()); ++k) {
        if (k < zeros.size()) value *= s - zeros[k];
        if (k < poles.size()) {
            if (s == poles[k]) return std::numeric_limits<double>::infinity();
            value /= s - poles[k];
        }
    }
    return value;
}

LinearModel LinearModel::displayed() const
{
    LinearModel m = *this;
    if (in_display_units) return m;
    m.in_display_units = true;
    auto scale = [](Matrix& matrix, const std::vector<Signal>& rows, const std::vector<Signal>& columns) {
        for (std::size_t i = 0; i < matrix.rows; ++i)
            for (std::size_t k = 0; k < matrix.columns; ++k) matrix(i, k) *= columns[k].scale / rows[i].scale;
    };
    scale(m.a, states, states);
    scale(m.b, states, inputs);
    scale(m.c, outputs, states);
    for (Matrix* direct : {&m.d, &m.e, &m.e2}) scale(*direct, outputs, inputs);
    for (std::vector<Signal>* list : {&m.states, &m.inputs, &m.outputs})
        for (Signal& s : *list) s.unit = s.display;
    return m;
}

std::vector<Root> LinearModel::poles() const
{
    std::vector<Root> list;
    for (Complex v : values_of(dense(a))) list.push_back({v});
    std::sort(list.begin(), list.end(), slower);
    return list;
}

TransferFunction LinearModel::transfer(std::size_t input, std::size_t output, double tolerance) const
{
    check_numbers(*this, input, output);
    auto n = static_cast<Eigen::Index>(states.size());
    Eigen::MatrixXd whole_a = dense(a);
    Eigen::VectorXd whole_b = n > 0 ? Eigen::VectorXd(dense(b).col(static_cast<Eigen::Index>(input))) : Eigen::VectorXd();
    Eigen::RowVectorXd whole_c = n > 0 ? Eigen::RowVectorXd(dense(c).row(static_cast<Eigen::Index>(output))) : Eigen::RowVectorXd();
    double direct = d(output, input);
    TransferFunction f;
    f.poles = values_of(whole_a);
    // rates of the input: it is let through 1 / (s + filter) first, once or twice, which leaves the zeros as they are
    double by_rate = entry(e, output, input), by_second = entry(e2, output, input);
    double filter = std::max(whole_a.norm(), 1.0);
    auto let_through = [&](double& lost) {  // y = C x + D u + E u' with u' = v - filter * u
        Eigen::Index size = whole_a.rows();
        Eigen::MatrixXd larger = Eigen::MatrixXd::Zero(size + 1, size + 1);
        larger.topLeftCorner(size, size) = whole_a;
        larger.topRightCorner(size, 1) = whole_b;
        larger(size, size) = -filter;
        whole_a = larger;
        whole_b = Eigen::VectorXd::Zero(size + 1);
        whole_b(size) = 1;
        whole_c.conservativeResize(size + 1);
        whole_c(size) = direct - filter * lost;
        direct = lost;
        lost = 0;
    };
    if (by_second != 0) {
        // y = ... + E u' + E2 u'', u'' = v' - filter u': first the second rate becomes a first one
        double first = by_rate - filter * by_second;
        let_through(first);
        by_rate = by_second;
    }
    if (by_rate != 0) let_through(by_rate);
    f.zeros = zeros_of(whole_a, whole_b, whole_c, direct, f.gain);
    if (f.gain == 0) {
        f.zeros.clear();
        f.poles.clear();
        return f;
    }
    // nearest pairs cancel first
    double largest = 0;
    for (Complex p : f.poles) largest = std::max(largest, std::abs(p));
    for (Complex& z : f.zeros)
        if (std::abs(z) <= 1e-14 * largest) z = 0;
    for (;;) {
        std::size_t zero = 0, pole = 0;
        double best = tolerance;
        for (std::size_t i = 0; i < f.zeros.size(); ++i)
            for (std::size_t k = 0; k < f.poles.size(); ++k) {
                double size = std::max({std::abs(f.zeros[i]), std::abs(f.poles[k]), 1e-12 * largest, 1e-300});
                double away = std::abs(f.zeros[i] - f.poles[k]) / size;
                if (away < best) best = away, zero = i, pole = k;
            }
        if (best >= tolerance) break;
        // of a pair of complex ones both go, or the polynomials would no longer be real
        f.cancelled.emplace_back(f.poles[pole], f.zeros[zero]);
        f.zeros.erase(f.zeros.begin() + static_cast<std::ptrdiff_t>(zero));
        f.poles.erase(f.poles.begin() + static_cast<std::ptrdiff_t>(pole));
    }
    auto in_order = [](std::vector<Complex>& list) { std::sort(list.begin(), list.end(), [](Complex x, Complex y) { return slower({x}, {y}); }); };
    in_order(f.zeros);
    in_order(f.poles);
    // held against the matrices
    Answers answers(*this, input, output);
    for (double hertz : frequencies(input, output, 25)) {
        Complex s(0, kTurn * hertz), want = answers.at(s), have = f.at(s);
        if (std::isfinite(std::abs(want)) && std::abs(want) > 0) f.error = std::max(f.error, std::abs(have - want) / std::abs(want));
    }
    return f;
}

std::vector<Complex> LinearModel::response(std::size_t input, std::size_t output, const std::vector<double>& hertz) const
{
    check_numbers(*this, input, output);
    Answers answers(*this, input, output);
    std::vector<Complex> list;
    for (double f : hertz) list.push_back(answers.at({0, kTurn * f}));
    return list;
}

std::vector<double> LinearModel::step(std::size_t input, std::size_t output, const std::vector<double>& times) const
{
    check_numbers(*this, input, output);
    auto n = static_cast<Eigen::Index>(states.size());
    Eigen::MatrixXd with_input = Eigen::MatrixXd::Zero(n + 1, n + 1);  // the input as a state that rests at 1
    Eigen::RowVectorXd seen = Eigen::RowVectorXd::Zero(n + 1);
    if (n > 0) {
        with_input.topLeftCorner(n, n) = dense(a);
        with_input.topRightCorner(n, 1) = dense(b).col(static_cast<Eigen::Index>(input));
        seen.head(n) = dense(c).row(static_cast<Eigen::Index>(output));
    }
    seen(n) = d(output, input);
    // numbers of unlike units would let the squaring lose all digits
    Eigen::VectorXd scale = balance(with_input, n + 1);
    seen = seen * scale.asDiagonal();
    Eigen::VectorXd x = Eigen::VectorXd::Zero(n + 1);
    x(n) = 1 / scale(n);
    std::vector<double> list;
    double now = 0, made_for = -1;
    Eigen::MatrixXd forward;
    for (double t : times) {
        double stretch = t - now;
        if (stretch > 0) {
            if (std::abs(stretch - made_for) > 1e-9 * stretch) {
                forward = Eigen::MatrixXd(with_input * stretch).exp();
                made_for = stretch;
            }
            x = forward * x;
            now = t;
        }
        list.push_back(seen * x);
    }
    return list;
}

std::vector<double> LinearModel::frequencies(std::size_t input, std::size_t output, std::size_t n) const
{
    check_numbers(*this, input, output);
    double low = HUGE_VAL, high = 0;
    std::vector<Complex> places = values_of(dense(a));
    // zeros by the states alone: good enough for a range
    double gain = 0, largest = 0;
    for (Complex p : places) largest = std::max(largest, std::abs(p));
    if (!states.empty()) {
        std::vector<Complex> zeros =
            zeros_of(dense(a), dense(b).col(static_cast<Eigen::Index>(input)), dense(c).row(static_cast<Eigen::Index>(output)), d(output, input), gain);
        places.insert(places.end(), zeros.begin(), zeros.end());
    }
    // pole and zero in one place are not seen
    for (std::size_t i = 0; i < places.size() && i < states.size(); ++i)
        for (std::size_t k = states.size(); k < places.size(); ++k)
            if (std::abs(places[i] - places[k]) <= 1e-6 * std::abs(places[i])) {
                places[i] = places[k] = 0;
                break;
            }
    for (Complex p : places) {
        double size = std::abs(p);
        if (size <= 1e-9 * largest || size > 1e3 * largest) continue;
        low = std::min(low, size), high = std::max(high, size);
    }
    if (high == 0) low = high = 1;
    low /= kTurn * std::pow(10, 1.5), high *= std::pow(10, 1.5) / kTurn;
    std::vector<double> list;
    for (std::size_t k = 0; k < n; ++k) list.push_back(low * std::pow(high / low, n > 1 ? static_cast<double>(k) / static_cast<double>(n - 1) : 0.0));
    return list;
}

Margins LinearModel::margins(std::size_t input, std::size_t output) const
{
    check_numbers(*this, input, output);
    Margins m;
    Answers answers(*this, input, output);
    auto loop = [&](double hertz) { return -answers.at({0, kTurn * hertz}); };
    auto refine = [&](double a, double b, auto&& side) {
        for (int k = 0; k < 60; ++k) {
            double middle = std::sqrt(a * b);
            (side(loop(middle)) == side(loop(a)) ? a : b) = middle;
        }
        return std::sqrt(a * b);
    };
    std::vector<double> list = frequencies(input, output, 4000);
    Complex before = loop(list[0]);
    for (std::size_t k = 1; k < list.size(); ++k) {
        Complex here = loop(list[k]);
        auto above_one = [](Complex v) { return std::abs(v) > 1; };
        if (above_one(here) != above_one(before)) {
            double f = refine(list[k - 1], list[k], above_one);
            double left = std::arg(loop(f)) * 180 / std::numbers::pi + 180;  // from -180 deg up
            double phase = left > 180 ? left - 360 : left;
            if (std::abs(phase) < std::abs(m.phase)) m.phase = phase, m.phase_at = f;
            m.delay = std::min(m.delay, (left <= 0 ? left + 360 : left) / 360 / f);
        }
        auto upper = [](Complex v) { return v.imag() > 0; };
        if (upper(here) != upper(before) && here.real() < 0 && before.real() < 0) {
            double f = refine(list[k - 1], list[k], upper), factor = 1 / std::abs(loop(f));
            if (std::abs(std::log(factor)) < std::abs(std::log(m.gain))) m.gain = factor, m.gain_at = f;
        }
        before = here;
    }
    // closed: u = y
    Eigen::MatrixXd closed = dense(a);
    if (!states.empty() && d(output, input) != 1)
        closed += dense(b).col(static_cast<Eigen::Index>(input)) * dense(c).row(static_cast<Eigen::Index>(output)) / (1 - d(output, input));
    for (Complex p : values_of(closed)) m.stable = m.stable && p.real() <= 1e-9 * std::abs(p);
    return m;
}

}  // namespace netloop
