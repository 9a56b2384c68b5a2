// SPDX-License-Identifier: Apache-2.0
#include <numbers>

#include "problem.hpp"

namespace published {
namespace {

using std::exp;

// Horneber (1985); as printed in Mazzia and Magherini (2008), with the small capacitors that make it an ordinary system.
struct RingModulator {
    static constexpr double C = 1.6e-8, Cs = 2e-12, Cp = 1e-8, R = 25e3, Rp = 50, Lh = 4.45, Ls1 = 2e-3, Ls2 = 5e-4, Ls3 = 5e-4, Rg1 = 36.3, Rg2 = 17.3,
                            Rg3 = 17.3, Ri = 50, Rc = 600, gamma = 40.67286402e-9, delta = 17.7493332;
    template <class T>
    void rates(double t, const T* y, T* f) const
    {
        auto diode = [](const T& u) { return gamma * (exp(delta * u) - 1); };
        double in1 = 0.5 * std::sin(2e3 * std::numbers::pi * t), in2 = 2 * std::sin(2e4 * std::numbers::pi * t);
        T q1 = diode(y[2] - y[4] - y[6] - in2), q2 = diode(y[5] - y[3] - y[6] - in2), q3 = diode(y[3] + y[4] + y[6] + in2),
          q4 = diode(y[6] - y[2] - y[5] + in2);
        f[0] = (y[7] - 0.5 * y[9] + 0.5 * y[10] + y[13] - y[0] / R) / C;
        f[1] = (y[8] - 0.5 * y[11] + 0.5 * y[12] + y[14] - y[1] / R) / C;
        f[2] = (y[9] - q1 + q4) / Cs;
        f[3] = (q2 - q3 - y[10]) / Cs;
        f[4] = (y[11] + q1 - q3) / Cs;
        f[5] = (q4 - q2 - y[12]) / Cs;
        f[6] = (q1 + q2 - q3 - q4 - y[6] / Rp) / Cp;
        f[7] = y[0] / -Lh;
        f[8] = y[1] / -Lh;
        f[9] = (0.5 * y[0] - y[2] - Rg2 * y[9]) / Ls2;
        f[10] = (y[3] - 0.5 * y[0] - Rg3 * y[10]) / Ls3;
        f[11] = (0.5 * y[1] - y[4] - Rg2 * y[11]) / Ls2;
        f[12] = (y[5] - 0.5 * y[1] - Rg3 * y[12]) / Ls3;
        f[13] = (in1 - y[0] - (Ri + Rg1) * y[13]) / Ls1;
        f[14] = (-y[1] - (Rc + Rg1) * y[14]) / Ls1;
    }
};

// Rentrop; as printed in Hairer, Lubich and Roche (1989).
struct TransistorAmplifier {
    static constexpr double ub = 6, alpha = 0.99, R0 = 1000, R = 9000;
    template <class T>
    void residual(double t, const T* y, const T* dy, T* f) const
    {
        auto g = [](const T& x) { return 1e-6 * (exp(x / 0.026) - 1); };
        double ue = 0.1 * std::sin(200 * std::numbers::pi * t);
        T g1 = g(y[1] - y[2]), g2 = g(y[4] - y[5]);
        f[0] = 1e-6 * (dy[1] - dy[0]) + ue / R0 - y[0] / R0;
        f[1] = 1e-6 * (dy[0] - dy[1]) + ub / R - y[1] * (2 / R) + (alpha - 1) * g1;
        f[2] = -2e-6 * dy[2] + g1 - y[2] / R;
        f[3] = 3e-6 * (dy[4] - dy[3]) + ub / R - y[3] / R - alpha * g1;
        f[4] = 3e-6 * (dy[3] - dy[4]) + ub / R - y[4] * (2 / R) + (alpha - 1) * g2;
        f[5] = -4e-6 * dy[5] + g2 - y[5] / R;
        f[6] = 5e-6 * (dy[7] - dy[6]) + ub / R - y[6] / R - alpha * g2;
        f[7] = 5e-6 * (dy[6] - dy[7]) - y[7] / R;
    }
};

}  // namespace

Problem ring_modulator()
{
    Problem p;
    p.name = "ring modulator";
    p.source = "Horneber (1985)";
    write_explicit<15>(p, RingModulator{});
    p.stop = 1e-3;
    p.start.assign(15, 0);
    p.usual.assign(15, 0.1);
    for (std::size_t i = 7; i < 15; ++i) p.usual[i] = 1e-4;
    p.paths = {"u1", "u2", "u3", "u4", "u5", "u6", "u7", "i1", "i2", "i3", "i4", "i5", "i6", "i7", "i8"};
    p.units = [](const std::string& path) { return path[0] == 'u' ? "V" : "A"; };
    p.text = R"(function diode(u : V) -> A { return 40.67286402e-9 A * (exp(17.7493332 V^-1 * u) - 1) }
system RingModulator {
    param C : F = 1.6e-8 F ; param Cs : F = 2e-12 F ; param Cp : F = 1e-8 F
    param R : ohm = 25 kohm ; param Rp : ohm = 50 ohm ; param Rg1 : ohm = 36.3 ohm ; param Rg2 : ohm = 17.3 ohm ; param Rg3 : ohm = 17.3 ohm
    param Ri : ohm = 50 ohm ; param Rc : ohm = 600 ohm
    param Lh : H = 4.45 H ; param Ls1 : H = 2e-3 H ; param Ls2 : H = 5e-4 H ; param Ls3 : H = 5e-4 H
    var u1, u2, u3, u4, u5, u6, u7 : V init 0 V usual 0.1 V
    var i1, i2, i3, i4, i5, i6, i7, i8 : A init 0 A usual 1e-4 A
    let in1 : V = 0.5 V * sin(2000*pi * time / 1 s)
    let in2 : V = 2 V * sin(20000*pi * time / 1 s)
    var q1, q2, q3, q4 : A
    q1 = diode(u3 - u5 - u7 - in2)
    q2 = diode(-u4 + u6 - u7 - in2)
    q3 = diode(u4 + u5 + u7 + in2)
    q4 = diode(-u3 - u6 + u7 + in2)
    C * u1' = i1 - 0.5*i3 + 0.5*i4 + i7 - u1/R
    C * u2' = i2 - 0.5*i5 + 0.5*i6 + i8 - u2/R
    Cs * u3' = i3 - q1 + q4
    Cs * u4' = -i4 + q2 - q3
    Cs * u5' = i5 + q1 - q3
    Cs * u6' = -i6 - q2 + q4
    Cp * u7' = -u7/Rp + q1 + q2 - q3 - q4
    Lh * i1' = -u1
    Lh * i2' = -u2
    Ls2 * i3' = 0.5*u1 - u3 - Rg2*i3
    Ls3 * i4' = -0.5*u1 + u4 - Rg3*i4
    Ls2 * i5' = 0.5*u2 - u5 - Rg2*i5
    Ls3 * i6' = -0.5*u2 + u6 - Rg3*i6
    Ls1 * i7' = -u1 + in1 - (Ri + Rg1)*i7
    Ls1 * i8' = -u2 - (Rc + Rg1)*i8
}
)";
    p.printed = {{0, -0.2339057358486745e-1}, {1, -0.7367485485540825e-2}, {2, 0.2582956709291169}, {3, -0.4064465721283450}};
    return p;
}

Problem transistor_amplifier()
{
    Problem p;
    p.name = "transistor amplifier";
    p.source = "Hairer, Lubich and Roche (1989)";
    write_implicit<8>(p, TransistorAmplifier{});
    p.stop = 0.2;
    p.start = {0, 3, 3, 6, 3, 3, 6, 0};
    double slope = 3 / (2e-6 * 9000.0), y2 = 51.338775, y4 = 24.9757667;
    p.start_rates = {y2, y2, -slope, -y4, -y4, -0.5 * slope, -10.00564453, -10.00564453};
    p.usual.assign(8, 1);
    p.paths = numbered("y", 8, true);
    p.n_sized = 0;
    p.text = R"(function g(x : V) -> A { return 1e-6 A * (exp(x / 0.026 V) - 1) }
system Amplifier {
    param R : ohm = 9 kohm
    param R0 : ohm = 1 kohm
    param C : uF = 1 uF
    param ub : V = 6 V
    param alpha = 0.99
    let ue : V = 0.1 V * sin(200 * pi * time / 1 s)
    var y[8] : V
    C * (y[2] - y[1])' = -ue / R0 + y[1] / R0
    C * (y[1] - y[2])' = -ub / R + y[2] * 2 / R - (alpha - 1) * g(y[2] - y[3])
    (-2*C) * y[3]' = -g(y[2] - y[3]) + y[3] / R
    3*C * (y[5] - y[4])' = -ub / R + y[4] / R + alpha * g(y[2] - y[3])
    3*C * (y[4] - y[5])' = -ub / R + y[5] * 2 / R - (alpha - 1) * g(y[5] - y[6])
    (-4*C) * y[6]' = -g(y[5] - y[6]) + y[6] / R
    5*C * (y[8] - y[7])' = -ub / R + y[7] / R + alpha * g(y[5] - y[6])
    5*C * (y[7] - y[8])' = y[8] / R
    guess y[1] = 0 ; guess y[2] = 3 V ; guess y[3] = 3 V ; guess y[4] = 6 V
    guess y[5] = 3 V ; guess y[6] = 3 V ; guess y[7] = 6 V ; guess y[8] = 0
    init y[1] - y[2] = -3 V
    init y[3] = 3 V
    init y[4] - y[5] = 3 V
    init y[6] = 3 V
    init y[7] - y[8] = 6 V
}
)";
    p.printed = {{0, -0.5562145012262709e-2}, {1, 3.006522471903042}, {2, 2.849958788608128}, {3, 2.926422536206241},
                 {4, 2.704617865010554},      {5, 2.761837778393145}, {6, 4.770927631616772}, {7, 1.236995868091548}};
    return p;
}

}  // namespace published
