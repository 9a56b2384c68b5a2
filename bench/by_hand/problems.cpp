// SPDX-License-Identifier: Apache-2.0
#include "problems.hpp"

#include <algorithm>
#include <array>
#include <cmath>
#include <fstream>
#include <iterator>
#include <numbers>

#include "algebra/table.hpp"

namespace by_hand {
namespace {

std::string options(std::size_t n)
{
    return "system Machine {\n    option n = " + std::to_string(n) + "\n";
}
std::string element(const char* name, std::size_t i)
{
    return std::string(name) + "[" + std::to_string(i + 1) + "]";
}

// Resistors in a row, a capacitor from each node to ground, a sine at the beginning.
class Ladder : public Problem {
public:
    explicit Ladder(std::size_t n) : n_(n) {}
    std::size_t n_states() const override { return n_; }
    double stop() const override { return 0.1; }
    void start(double* y) const override
    {
        for (std::size_t i = 0; i < n_; ++i) y[i] = 0;
    }
    void rates(double t, const double* y, double* dy) const override
    {
        double source = 5 * std::sin(2 * std::numbers::pi * 50 * t);
        dy[0] = kRate * (source - 2 * y[0] + y[1]);
        for (std::size_t i = 1; i + 1 < n_; ++i) dy[i] = kRate * (y[i - 1] - 2 * y[i] + y[i + 1]);
        dy[n_ - 1] = kRate * (y[n_ - 2] - y[n_ - 1]);
    }
    void pattern(const Entry& entry) const override
    {
        for (std::size_t i = 0; i < n_; ++i) {
            if (i > 0) entry(i, i - 1, 0);
            entry(i, i, 0);
            if (i + 1 < n_) entry(i, i + 1, 0);
        }
    }
    void jacobian(double, const double*, double* v) const override
    {
        for (std::size_t i = 0; i < n_; ++i) {
            if (i > 0) *v++ = kRate;
            *v++ = i + 1 < n_ ? -2 * kRate : -kRate;
            if (i + 1 < n_) *v++ = kRate;
        }
    }
    double usual(std::size_t) const override { return 1; }
    std::string path(std::size_t state) const override { return element("v", state); }
    std::string model() const override
    {
        return options(n_) + R"(    const r : kohm = 1 kohm
    const c : uF = 1 uF
    var v[n] : V init 0 V
    c * v[1]' = (5 V * sin(2 * pi * 50 Hz * time) - v[1]) / r - (v[1] - v[2]) / r
    for i in 2 .. n - 1 { c * v[i]' = (v[i-1] - v[i]) / r - (v[i] - v[i+1]) / r }
    c * v[n]' = (v[n-1] - v[n]) / r
}
)";
    }

private:
    static constexpr double kRate = 1e3;  // 1 / (1 kOhm 1 uF)
    std::size_t n_;
};

// A rod that conducts heat and radiates from its surface, heated at one end.
class Rod : public Problem {
public:
    explicit Rod(std::size_t n) : n_(n) {}
    std::size_t n_states() const override { return n_; }
    double stop() const override { return 60; }
    void start(double* y) const override
    {
        for (std::size_t i = 0; i < n_; ++i) y[i] = 290;
    }
    void rates(double t, const double* y, double* dy) const override
    {
        double s = std::sin(t / 3);
        dy[0] = (500 * s * s - kConductance * (y[0] - y[1])) / kCapacity;
        for (std::size_t i = 1; i + 1 < n_; ++i) {
            double square = y[i] * y[i];
            dy[i] = (kConductance * (y[i - 1] - 2 * y[i] + y[i + 1]) - kRadiation * (square * square - kAir4)) / kCapacity;
        }
        double square = y[n_ - 1] * y[n_ - 1];
        dy[n_ - 1] = (kConductance * (y[n_ - 2] - y[n_ - 1]) - kRadiation * (square * square - kAir4)) / kCapacity;
    }
    void pattern(const Entry& entry) const override
    {
        for (std::size_t i = 0; i < n_; ++i) {
            if (i > 0) entry(i, i - 1, 0);
            entry(i, i, 0);
            if (i + 1 < n_) entry(i, i + 1, 0);
        }
    }
    void jacobian(double, const double* y, double* v) const override
    {
        for (std::size_t i = 0; i < n_; ++i) {
            if (i > 0) *v++ = kConductance / kCapacity;
            double neighbours = i > 0 && i + 1 < n_ ? 2 : 1;
            *v++ = (-neighbours * kConductance - (i > 0 ? 4 * kRadiation * y[i] * y[i] * y[i] : 0)) / kCapacity;
            if (i + 1 < n_) *v++ = kConductance / kCapacity;
        }
    }
    double usual(std::size_t) const override { return 300; }
    std::string path(std::size_t state) const override { return element("T", state); }
    std::string model() const override
    {
        return options(n_) + R"(    const conductance : W/K = 40 W/K
    const capacity : J/K = 5 J/K
    const radiation : W/K^4 = 2e-11 W/K^4
    const air : K = 290 K
    var T[n] : K init 290 K
    capacity * T[1]' = 500 W * sin(time / 3 s)^2 - conductance * (T[1] - T[2])
    for i in 2 .. n - 1 { capacity * T[i]' = conductance * (T[i-1] - 2*T[i] + T[i+1]) - radiation * (T[i]^4 - air^4) }
    capacity * T[n]' = conductance * (T[n-1] - T[n]) - radiation * (T[n]^4 - air^4)
}
)";
    }

private:
    static constexpr double kConductance = 40, kCapacity = 5, kRadiation = 2e-11, kAir4 = 290.0 * 290 * 290 * 290;
    std::size_t n_;
};

// Oil volumes with orifices between them; a pressure that rises at one end, the tank at the other.
class Volumes : public Problem {
public:
    explicit Volumes(std::size_t n) : n_(n) {}
    std::size_t n_states() const override { return n_; }
    double stop() const override { return 1; }
    void start(double* y) const override
    {
        for (std::size_t i = 0; i < n_; ++i) y[i] = 1e5;
    }
    void rates(double t, const double* y, double* dy) const override
    {
        double before = flow(source(t) - y[0]);
        for (std::size_t i = 0; i < n_; ++i) {
            double after = flow(y[i] - (i + 1 < n_ ? y[i + 1] : kTank));
            dy[i] = kStiffness * (before - after);
            before = after;
        }
    }
    void pattern(const Entry& entry) const override
    {
        for (std::size_t i = 0; i < n_; ++i) {
            if (i > 0) entry(i, i - 1, 0);
            entry(i, i, 0);
            if (i + 1 < n_) entry(i, i + 1, 0);
        }
    }
    void jacobian(double t, const double* y, double* v) const override
    {
        double before = slope(source(t) - y[0]);
        for (std::size_t i = 0; i < n_; ++i) {
            double after = slope(y[i] - (i + 1 < n_ ? y[i + 1] : kTank));
            if (i > 0) *v++ = kStiffness * before;
            *v++ = -kStiffness * (before + after);
            if (i + 1 < n_) *v++ = kStiffness * after;
            before = after;
        }
    }
    double usual(std::size_t) const override { return 1e5; }
    std::string path(std::size_t state) const override { return element("p", state); }
    std::string model() const override
    {
        return options(n_) + R"(    const k : m^3/(s*Pa^0.5) = 3.2e-7 m^3/(s*Pa^0.5)
    const small : Pa = 1e4 Pa
    const tank : bar = 1 bar
    const stiffness : Pa/m^3 = 1.4e13 Pa/m^3
    var p[n] : bar init 1 bar
    var drop[n+1] : bar
    var q[n+1] : L/min
    drop[1] = tank + 100 bar * (1 - exp(-time / 0.1 s)) - p[1]
    for i in 2 .. n { drop[i] = p[i-1] - p[i] }
    drop[n+1] = p[n] - tank
    for i in 1 .. n + 1 { q[i] = k * drop[i] / sqrt(sqrt(drop[i]^2 + small^2)) }
    for i in 1 .. n { p[i]' = stiffness * (q[i] - q[i+1]) }
}
)";
    }

private:
    static constexpr double kFlow = 3.2e-7, kSmall = 1e4, kTank = 1e5, kStiffness = 1.4e13;
    static double source(double t) { return kTank + 100e5 * (1 - std::exp(-t / 0.1)); }
    static double flow(double drop) { return kFlow * drop / std::sqrt(std::sqrt(drop * drop + kSmall * kSmall)); }
    static double slope(double drop)
    {
        double sum = drop * drop + kSmall * kSmall, root = std::sqrt(std::sqrt(sum));
        return kFlow * (1 - 0.5 * drop * drop / sum) / root;
    }
    std::size_t n_;
};

// Masses between springs with dampers, shaken at one end.
class Masses : public Problem {
public:
    explicit Masses(std::size_t n) : n_(n) {}
    std::size_t n_states() const override { return 2 * n_; }
    double stop() const override { return 2; }
    void start(double* y) const override
    {
        for (std::size_t i = 0; i < 2 * n_; ++i) y[i] = 0;
    }
    // positions and speeds by turns, so that the matrix is narrow
    void rates(double t, const double* y, double* dy) const override
    {
        double before = 100 * std::sin(20 * t);
        for (std::size_t i = 0; i < n_; ++i) {
            double after = i + 1 < n_ ? kSpring * (y[2 * i] - y[2 * i + 2]) + kDamper * (y[2 * i + 1] - y[2 * i + 3]) : kSpring * y[2 * i];
            dy[2 * i] = y[2 * i + 1];
            dy[2 * i + 1] = before - after;  // of 1 kg
            before = after;
        }
    }
    void pattern(const Entry& entry) const override
    {
        for (std::size_t i = 0; i < n_; ++i) {
            entry(2 * i, 2 * i, 0);  // nothing, but the matrix of a step has something there
            entry(2 * i, 2 * i + 1, 0);
            for (int k = -2; k <= 3; ++k) {
                auto column = static_cast<std::ptrdiff_t>(2 * i) + k;
                if (column >= 0 && column < static_cast<std::ptrdiff_t>(2 * n_)) entry(2 * i + 1, static_cast<std::size_t>(column), 0);
            }
        }
    }
    void jacobian(double, const double*, double* v) const override
    {
        for (std::size_t i = 0; i < n_; ++i) {
            *v++ = 0;
            *v++ = 1;
            bool first = i == 0, last = i + 1 == n_;
            if (!first) *v++ = kSpring, *v++ = kDamper;
            *v++ = -(first ? 0 : kSpring) - kSpring;
            *v++ = -(first ? 0 : kDamper) - (last ? 0 : kDamper);
            if (!last) *v++ = kSpring, *v++ = kDamper;
        }
    }
    double usual(std::size_t state) const override { return state % 2 == 0 ? 0.01 : 0.1; }
    std::string path(std::size_t state) const override { return element(state % 2 == 0 ? "x" : "v", state / 2); }
    std::string model() const override
    {
        return options(n_) + R"(    const m : kg = 1 kg
    const k : N/m = 1e4 N/m
    const d : N*s/m = 10 N*s/m
    var x[n] : m init 0 m usual 0.01 m
    var v[n] : m/s init 0 m/s usual 0.1 m/s
    var force[n+1] : N
    force[1] = 100 N * sin(20 rad/s * time)
    for i in 1 .. n - 1 { force[i+1] = k * (x[i] - x[i+1]) + d * (v[i] - v[i+1]) }
    force[n+1] = k * x[n]
    for i in 1 .. n {
        x[i]' = v[i]
        m * v[i]' = force[i] - force[i+1]
    }
}
)";
    }

private:
    static constexpr double kSpring = 1e4, kDamper = 10;
    std::size_t n_;
};

// A square of wells joined by long pipes: levels and flows are states. Water comes and goes at one corner.
class Grid : public Problem {
public:
    explicit Grid(std::size_t cells) : m_(static_cast<std::size_t>(std::lround(std::sqrt(static_cast<double>(cells))))), across_(m_ * (m_ - 1)) {}
    std::size_t n_states() const override { return m_ * m_ + 2 * across_; }
    double stop() const override { return 200; }
    void start(double* y) const override
    {
        for (std::size_t i = 0; i < n_states(); ++i) y[i] = i < m_ * m_ ? 10 : 0;
    }
    void rates(double t, const double* y, double* dy) const override
    {
        const double *h = y, *right = y + m_ * m_, *down = right + across_;
        double *dh = dy, *dright = dy + m_ * m_, *ddown = dright + across_;
        for (std::size_t i = 0; i < m_; ++i)
            for (std::size_t j = 0; j < m_; ++j) {
                double sum = 0;
                if (j > 0) sum += right[i * (m_ - 1) + j - 1];
                if (j + 1 < m_) sum -= right[i * (m_ - 1) + j];
                if (i > 0) sum += down[(i - 1) * m_ + j];
                if (i + 1 < m_) sum -= down[i * m_ + j];
                dh[i * m_ + j] = sum / kArea;
            }
        dh[0] += 0.05 * std::sin(t / 10) / kArea;
        for (std::size_t i = 0; i < m_; ++i)
            for (std::size_t j = 0; j + 1 < m_; ++j) {
                double q = right[i * (m_ - 1) + j];
                dright[i * (m_ - 1) + j] = kDrive * (h[i * m_ + j] - h[i * m_ + j + 1]) - kFriction * q * std::abs(q);
            }
        for (std::size_t i = 0; i + 1 < m_; ++i)
            for (std::size_t j = 0; j < m_; ++j) {
                double q = down[i * m_ + j];
                ddown[i * m_ + j] = kDrive * (h[i * m_ + j] - h[(i + 1) * m_ + j]) - kFriction * q * std::abs(q);
            }
    }
    void pattern(const Entry& entry) const override
    {
        visit([&](std::size_t r, std::size_t c, int) { entry(r, c, 0); });
    }
    void jacobian(double, const double* y, double* v) const override
    {
        visit([&](std::size_t r, std::size_t, int kind) {
            *v++ = kind == 0 ? 1 / kArea : kind == 1 ? -1 / kArea : kind == 2 ? kDrive : kind == 3 ? -kDrive : kind == 5 ? 0 : -2 * kFriction * std::abs(y[r]);
        });
    }
    double usual(std::size_t state) const override { return state < m_ * m_ ? 1 : 0.01; }
    std::string path(std::size_t state) const override
    {
        if (state < m_ * m_) return element("h", state);
        state -= m_ * m_;
        return state < across_ ? element("right", state) : element("down", state - across_);
    }
    std::string model() const override
    {
        return options(m_) + R"(    const area : m^2 = 1 m^2
    const drive : m^2/s^2 = 0.0049 m^2/s^2
    const friction : m^-3 = 0.5 m^-3
    var h[n*n] : m init 10 m usual 1 m
    var right[n*(n-1)] : m^3/s init 0 m^3/s usual 0.01 m^3/s
    var down[n*(n-1)] : m^3/s init 0 m^3/s usual 0.01 m^3/s
    for i in 1 .. n { for j in 1 .. n {
        area * h[(i-1)*n+j]' = (if j > 1 then right[(i-1)*(n-1)+max(j-1,1)] else 0 m^3/s) - (if j < n then right[(i-1)*(n-1)+min(j,n-1)] else 0 m^3/s)
            + (if i > 1 then down[(max(i,2)-2)*n+j] else 0 m^3/s) - (if i < n then down[(min(i,n-1)-1)*n+j] else 0 m^3/s)
            + (if i + j == 2 then 0.05 m^3/s * sin(time / 10 s) else 0 m^3/s)
    } }
    for i in 1 .. n { for j in 1 .. n-1 {
        right[(i-1)*(n-1)+j]' = drive * (h[(i-1)*n+j] - h[(i-1)*n+j+1]) - friction * right[(i-1)*(n-1)+j] * abs(right[(i-1)*(n-1)+j])
    } }
    for i in 1 .. n-1 { for j in 1 .. n {
        down[(i-1)*n+j]' = drive * (h[(i-1)*n+j] - h[i*n+j]) - friction * down[(i-1)*n+j] * abs(down[(i-1)*n+j])
    } }
}
)";
    }

private:
    template <typename Visit>
    void visit(Visit entry) const
    {
        std::size_t right = m_ * m_, down = right + across_;
        for (std::size_t i = 0; i < m_; ++i)
            for (std::size_t j = 0; j < m_; ++j) {
                entry(i * m_ + j, i * m_ + j, 5);  // nothing, but the matrix of a step has something there
                if (j > 0) entry(i * m_ + j, right + i * (m_ - 1) + j - 1, 0);
                if (j + 1 < m_) entry(i * m_ + j, right + i * (m_ - 1) + j, 1);
                if (i > 0) entry(i * m_ + j, down + (i - 1) * m_ + j, 0);
                if (i + 1 < m_) entry(i * m_ + j, down + i * m_ + j, 1);
            }
        for (std::size_t i = 0; i < m_; ++i)
            for (std::size_t j = 0; j + 1 < m_; ++j) {
                std::size_t row = right + i * (m_ - 1) + j;
                entry(row, i * m_ + j, 2);
                entry(row, i * m_ + j + 1, 3);
                entry(row, row, 4);
            }
        for (std::size_t i = 0; i + 1 < m_; ++i)
            for (std::size_t j = 0; j < m_; ++j) {
                std::size_t row = down + i * m_ + j;
                entry(row, i * m_ + j, 2);
                entry(row, (i + 1) * m_ + j, 3);
                entry(row, row, 4);
            }
    }
    static constexpr double kArea = 1, kDrive = 0.0049, kFriction = 0.5;
    std::size_t m_, across_;
};

// The bascule bridge of examples/bascule in its twelve states; both cylinders move alike and are one with twice the areas.
class Bridge : public Problem {
public:
    enum State { block, spool, head, rod, angle, speed, integral, filtered, oil, winding, current, turn, kStates };
    std::size_t n_states() const override { return kStates; }
    double stop() const override { return 60; }
    void start(double* y) const override
    {
        std::fill(y, y + kStates, 0.0);
        y[block] = 2e5;
        y[rod] = 20e5;
        y[oil] = 303.15;
        y[winding] = 298.15;
        // at rest: the push of both cylinders carries the weight
        y[head] = kAmbient + (weight(0) / (2 * kArm * std::cos(kOffset)) + (y[rod] - kAmbient) * kRodArea) / kHeadArea;
    }
    void rates(double t, const double* y, double* dy) const override
    {
        double p_mean_head = density(0.5 * (y[block] + y[head])), p_mean_rod = density(0.5 * (y[block] + y[rod]));
        double open_up = 1e-4 + std::max(y[spool], 0.0), open_down = 1e-4 + std::max(-y[spool], 0.0);
        double q_supply_a = edge(open_up, y[block] - y[head]), q_supply_b = edge(open_down, y[block] - y[rod]);
        double q_a_tank = edge(open_down, y[head] - kTank), q_b_tank = edge(open_up, y[rod] - kTank);
        double m_supply_a = p_mean_head * q_supply_a, m_supply_b = p_mean_rod * q_supply_b;
        double m_a_tank = density(0.5 * (y[head] + kTank)) * q_a_tank, m_b_tank = density(0.5 * (y[rod] + kTank)) * q_b_tank;
        double dp = y[block] - kTank, q_pump = kDisplacement * y[turn] - kPumpLeakage * dp;
        double q_relief = kReliefFlow * std::max(dp - 140e5, 0.0) / 12e5 + kReliefLeakage * dp;
        dy[block] = kBulk / (4e-3 * density(y[block])) * (density(kTank) * q_pump - density(0.5 * (y[block] + kTank)) * q_relief - m_supply_a - m_supply_b);

        double reach = kArm * std::cos(y[angle] + kOffset), x = kArm * (std::sin(y[angle] + kOffset) - std::sin(kOffset)), v = reach * y[speed];
        double across = y[head] - y[rod], leak = density(0.5 * (y[head] + y[rod])) * kSealLeakage * across;
        double in_head = density(y[head]), in_rod = density(y[rod]);
        dy[head] = kBulk / (in_head * (1e-3 + kHeadArea * x)) * (0.5 * (m_supply_a - m_a_tank) - leak - in_head * kHeadArea * v);
        dy[rod] = kBulk / (in_rod * (1e-3 + kRodArea * (1.4 - x))) * (0.5 * (m_supply_b - m_b_tank) + leak + in_rod * kRodArea * v);
        double push = (y[head] - kAmbient) * kHeadArea - (y[rod] - kAmbient) * kRodArea;
        dy[angle] = y[speed];
        dy[speed] = (2 * (push - 60e3 * v) * reach - weight(y[angle]) - 150e3 * y[speed]) / (430e3 + 30e3 * 2.4 * 2.4);

        double plan = plan_(t, 0, 0, 0), plan_rate = plan_(t, 0, 1, 0), measured = y[angle] / kRight;
        double deviation = plan / kRight - measured, unlimited = 2 * deviation + y[integral] + plan_rate / (20 * kDegree),
               out = std::clamp(unlimited, -1.0, 1.0);
        dy[spool] = (std::clamp(out, -1.0, 1.0) - y[spool]) / 0.03;
        dy[integral] = 2 * deviation / 60 + (out - unlimited) / 1.0;
        const double kDerivativeTime = 0;  // the controller has no derivative share here; its filter follows gain times this times the measured value
        dy[filtered] = (2 * kDerivativeTime * measured - y[filtered]) / 0.05;

        double resistance = 0.12 * (1 + 0.0039 * (y[winding] - 293.15)), torque = kDisplacement * dp * 1.04 + 0.01 * y[turn];
        dy[current] = (440 - 2.7 * y[turn] - resistance * y[current]) / 4e-3;
        dy[turn] = (2.7 * y[current] - torque) / 0.6;
        double pumped = density(kTank) * q_pump / density(0.5 * (y[block] + kTank)) * dp;  // with what compresses the oil
        double loss = torque * y[turn] - pumped + q_relief * dp + q_supply_a * (y[block] - y[head]) + q_supply_b * (y[block] - y[rod]) +
                      q_a_tank * (y[head] - kTank) + q_b_tank * (y[rod] - kTank) + 2 * (60e3 * v * v + kSealLeakage * across * across);
        dy[oil] = (loss - 75 * (y[oil] - 291.15)) / 650e3;
        dy[winding] = (resistance * y[current] * y[current] - 72 * (y[winding] - 291.15)) / 9e3;
    }
    void pattern(const Entry& entry) const override
    {
        for (std::size_t c = 0; c < kStates; ++c)
            for (std::size_t r = 0; r < kStates; ++r) entry(r, c, 0);
    }
    // by differences: twelve evaluations, some thirty times in a run
    void jacobian(double t, const double* y, double* v) const override
    {
        std::array<double, kStates> at, f0, f1;
        std::copy(y, y + kStates, at.begin());
        rates(t, y, f0.data());
        for (std::size_t c = 0; c < kStates; ++c) {
            double h = 1.5e-8 * std::max(std::abs(y[c]), usual(c));
            at[c] = y[c] + h;
            rates(t, at.data(), f1.data());
            at[c] = y[c];
            for (std::size_t r = 0; r < kStates; ++r) *v++ = (f1[r] - f0[r]) / h;
        }
    }
    double usual(std::size_t state) const override
    {
        constexpr std::array<double, kStates> kUsual{1e7, 1, 1e7, 1e7, 1.57, 0.087, 1, 1, 303, 300, 1, 105};
        return kUsual[state];
    }
    std::string path(std::size_t state) const override
    {
        static const std::array<const char*, kStates> kPaths{"block.p",    "valve.spool",        "left.head_p",  "left.rod_side_p", "leaf.angle",
                                                             "leaf.speed", "pid.integral_share", "pid.filtered", "oil.T",           "winding.T",
                                                             "motor.i",    "motor.speed"};
        return kPaths[state];
    }
    std::string model() const override
    {
        auto text = [](const char* name) {
            std::ifstream file(std::string(NETLOOP_SOURCE_DIR "/examples/bascule/") + name);
            return std::string{std::istreambuf_iterator<char>(file), {}};
        };
        // one text of the two, since a model from memory has no folder beside it
        const std::string use = "use \"machine.loop\"\n";
        std::string bridge = text("bridge.loop");
        std::size_t at = bridge.find(use);
        if (at != std::string::npos) bridge.erase(at, use.size());
        return text("machine.loop") + bridge;
    }

private:
    static constexpr double kDegree = std::numbers::pi / 180, kRight = std::numbers::pi / 2, kBulk = 1.4e9, kTank = 1.013e5, kAmbient = 1.013e5;
    static constexpr double kLitreMinute = 1e-3 / 60, kDisplacement = 110e-6 / (2 * std::numbers::pi), kPumpLeakage = 0.03 * kLitreMinute / 1e5;
    static constexpr double kReliefFlow = 160 * kLitreMinute, kReliefLeakage = 1e-5 * kLitreMinute / 1e5, kSealLeakage = 0.08 * kLitreMinute / 1e5;
    static constexpr double kHeadArea = std::numbers::pi / 4 * 0.125 * 0.125, kRodArea = std::numbers::pi / 4 * (0.125 * 0.125 - 0.08 * 0.08);
    static constexpr double kArm = 0.9, kOffset = -40 * kDegree;
    static double weight(double angle) { return 9.80665 * (20e3 * 4 - 30e3 * 2.4) * std::cos(angle); }
    static double density(double p)
    {
        static const double kAtOneBar = 870 * (1 - 7e-4 * (313.15 - 288.15));
        return kAtOneBar * std::exp((p - 1e5) / kBulk);
    }
    static double edge(double opening, double dp)
    {
        static const double kPerRoot = 180 * kLitreMinute / std::sqrt(10e5);
        return kPerRoot * opening * dp / std::sqrt(std::sqrt(dp * dp + 1e4 * 1e4));
    }
    netloop::Table plan_{"plan", {0, 5, 10, 20, 25, 35, 40, 50, 55, 60},
                         {},     {0, 0, 13 * kDegree, 67 * kDegree, 80 * kDegree, 80 * kDegree, 67 * kDegree, 13 * kDegree, 0, 0},
                         true,   netloop::Table::Outside::hold};
};

}  // namespace

const std::vector<std::string> kProblems{"R-C ladder", "radiating rod", "oil volumes", "masses and springs", "pipe grid"};
const std::string kBridge = "bascule bridge";

std::unique_ptr<Problem> make_problem(const std::string& name, std::size_t cells)
{
    if (name == kBridge) return std::make_unique<Bridge>();
    if (name == kProblems[0]) return std::make_unique<Ladder>(cells);
    if (name == kProblems[1]) return std::make_unique<Rod>(cells);
    if (name == kProblems[2]) return std::make_unique<Volumes>(cells);
    if (name == kProblems[3]) return std::make_unique<Masses>(cells);
    return std::make_unique<Grid>(cells);
}

}  // namespace by_hand
