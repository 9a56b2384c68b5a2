// SPDX-License-Identifier: Apache-2.0
#include <fmt/format.h>

#include <array>
#include <numbers>

#include "problem.hpp"

namespace published {
namespace {

using std::cos;
using std::sin;
using std::sqrt;

// Van der Pol (1926), in the scaling of Hairer and Wanner (1996), ch. IV.10.
struct VanDerPol {
    template <class T>
    void rates(double, const T* y, T* f) const
    {
        f[0] = y[1];
        f[1] = 1e6 * ((1 - y[0] * y[0]) * y[1] - y[0]);
    }
};

// Arenstorf (1963), Periodic solutions of the restricted three body problem.
struct Arenstorf {
    template <class T>
    void rates(double, const T* y, T* f) const
    {
        constexpr double mu = 0.012277471, rest = 1 - mu;
        T a = (y[0] + mu) * (y[0] + mu) + y[1] * y[1], b = (y[0] - rest) * (y[0] - rest) + y[1] * y[1];
        T d1 = a * sqrt(a), d2 = b * sqrt(b);
        f[0] = y[2];
        f[1] = y[3];
        f[2] = y[0] + 2 * y[3] - rest * (y[0] + mu) / d1 - mu * (y[0] - rest) / d2;
        f[3] = y[1] - 2 * y[2] - rest * y[1] / d1 - mu * y[1] / d2;
    }
};

// Hairer, Norsett and Wanner (1993), ch. II.10: seven stars in the plane. States: all x, all y, their speeds.
struct Pleiades {
    template <class T>
    void rates(double, const T* z, T* f) const
    {
        const T *x = z, *y = z + 7;
        for (std::size_t i = 0; i < 14; ++i) f[i] = z[14 + i], f[14 + i] = T(0.0);
        for (std::size_t i = 0; i < 7; ++i)
            for (std::size_t j = i + 1; j < 7; ++j) {
                T dx = x[j] - x[i], dy = y[j] - y[i], square = dx * dx + dy * dy, pull = T(1.0) / (square * sqrt(square));
                T px = dx * pull, py = dy * pull;
                auto mi = static_cast<double>(i + 1), mj = static_cast<double>(j + 1);
                f[14 + i] += mj * px;
                f[21 + i] += mj * py;
                f[14 + j] -= mi * px;
                f[21 + j] -= mi * py;
            }
    }
};

// Hairer and Wanner (1996), ch. IV.10: a beam clamped at one end, in 40 pieces; the force follows for pi seconds.
struct Beam {
    static constexpr std::size_t n = 40;
    template <class T>
    void rates(double t, const T* y, T* f) const
    {
        constexpr double n2 = n * n, n4 = n2 * n2;
        const T *th = y, *speed = y + n;
        std::array<T, n + 1> s, c;
        for (std::size_t i = 1; i < n; ++i) s[i] = sin(th[i] - th[i - 1]), c[i] = cos(th[i] - th[i - 1]);
        double force = t < std::numbers::pi ? 1.5 * std::sin(t) * std::sin(t) : 0;
        std::array<T, n> v, w, alpha;
        for (std::size_t i = 0; i < n; ++i) {
            T before = i == 0 ? -th[0] : th[i - 1], after = i + 1 == n ? th[n - 1] : th[i + 1];
            v[i] = n4 * (before - 2 * th[i] + after) + n2 * force * (cos(th[i]) + sin(th[i]));
        }
        for (std::size_t i = 0; i < n; ++i) {
            w[i] = speed[i] * speed[i];
            if (i > 0) w[i] -= s[i] * v[i - 1];
            if (i + 1 < n) w[i] += s[i + 1] * v[i + 1];
            alpha[i] = T(i == 0 ? 1.0 : i + 1 == n ? 3.0 : 2.0);
        }
        for (std::size_t i = n - 1; i-- > 0;) {
            T q = c[i + 1] / alpha[i + 1];
            w[i] += w[i + 1] * q;
            alpha[i] -= c[i + 1] * q;
        }
        w[0] = w[0] / alpha[0];
        for (std::size_t i = 1; i < n; ++i) w[i] = (w[i] + c[i] * w[i - 1]) / alpha[i];
        for (std::size_t i = 0; i < n; ++i) {
            T u = (i == 0 ? 1.0 : i + 1 == n ? 3.0 : 2.0) * v[i];
            if (i > 0) u -= c[i] * v[i - 1] + s[i] * w[i - 1];
            if (i + 1 < n) u += s[i + 1] * w[i + 1] - c[i + 1] * v[i + 1];
            f[i] = speed[i];
            f[n + i] = u;
        }
    }
};

}  // namespace

Problem van_der_pol()
{
    Problem p;
    p.name = "van der Pol";
    p.source = "van der Pol (1926)";
    write_explicit<2>(p, VanDerPol{});
    p.stop = 2;
    p.start = {2, 0};
    p.usual = {1, 1};
    p.paths = numbered("y", 2);
    p.text = R"(system VanDerPol {
    var y1 init 2 usual 1
    var y2 init 0 usual 1
    param small = 1e-6
    y1' = y2
    small * y2' = (1 - y1^2)*y2 - y1
}
)";
    p.printed = {{0, 0.1706167732170483e1}, {1, -0.8928097010247975}};
    return p;
}

Problem arenstorf()
{
    Problem p;
    p.name = "Arenstorf orbit";
    p.source = "Arenstorf (1963)";
    write_explicit<4>(p, Arenstorf{});
    p.stop = 17.0652165601579625588917206249;
    p.start = {0.994, 0, 0, -2.00158510637908252240537862224};
    p.usual.assign(4, 1);
    p.paths = {"x", "y", "vx", "vy"};
    p.text = R"(system Arenstorf {
    var x init 0.994 usual 1
    var y init 0 usual 1
    var vx init 0 usual 1
    var vy init -2.00158510637908252240537862224 usual 1
    param mu = 0.012277471
    let rest = 1 - mu
    let d1 = ((x + mu)^2 + y^2)^1.5
    let d2 = ((x - rest)^2 + y^2)^1.5
    x' = vx
    y' = vy
    vx' = x + 2*vy - rest*(x + mu)/d1 - mu*(x - rest)/d2
    vy' = y - 2*vx - rest*y/d1 - mu*y/d2
}
)";
    p.printed = {{0, 0.994}, {3, -2.00158510637908252240537862224}};
    return p;
}

Problem pleiades()
{
    Problem p;
    p.name = "Pleiades";
    p.source = "Hairer, Norsett and Wanner (1993)";
    write_explicit<28>(p, Pleiades{});
    p.stop = 3;
    const std::array<double, 7> x{3, 3, -1, -3, 2, -2, 2}, y{3, -3, 2, 0, 0, -4, 4}, vx{0, 0, 0, 0, 0, 1.75, -1.5}, vy{0, 0, 0, -1.25, 1, 0, 0};
    for (const auto* part : {&x, &y, &vx, &vy}) p.start.insert(p.start.end(), part->begin(), part->end());
    p.usual.assign(28, 1);
    for (const char* name : {"x", "y", "vx", "vy"})
        for (const std::string& path : numbered(name, 7, true)) p.paths.push_back(path);
    p.text = R"(system Pleiades {
    var x[7] usual 1
    var y[7] usual 1
    var vx[7] usual 1
    var vy[7] usual 1
    for i in 1 .. 7 {
        x[i]' = vx[i]
        y[i]' = vy[i]
        vx[i]' = sum(if j == i then 0 else j * (x[j] - x[i]) / ((x[j] - x[i])^2 + (y[j] - y[i])^2)^1.5 for j in 1 .. 7)
        vy[i]' = sum(if j == i then 0 else j * (y[j] - y[i]) / ((x[j] - x[i])^2 + (y[j] - y[i])^2)^1.5 for j in 1 .. 7)
    }
)";
    for (std::size_t i = 0; i < 28; ++i) p.text += fmt::format("    init {} = {}\n", p.paths[i], p.start[i]);
    p.text += "}\n";
    p.printed = {{0, 0.3706139143970502},     {1, 0.3237284092057233e1},  {2, -0.3222559032418324e1}, {3, 0.6597091455775310},    {4, 0.3425581707156584},
                 {5, 0.1562172101400631e1},   {6, -0.7003092922212495},   {7, -0.3943437585517392e1}, {8, -0.3271380973972550e1}, {9, 0.5225081843456543e1},
                 {10, -0.2590612434977470e1}, {11, 0.1198213693392275e1}, {12, -0.2429682344935824},  {13, 0.1091449240428980e1}};
    return p;
}

Problem beam()
{
    Problem p;
    p.name = "beam";
    p.source = "Hairer and Wanner (1996)";
    write_explicit<80>(p, Beam{});
    p.stop = 5;
    p.start.assign(80, 0);
    p.usual.assign(80, 1);
    for (const char* name : {"angle", "speed"})
        for (const std::string& path : numbered(name, 40, true)) p.paths.push_back(path);
    p.text = R"(system Beam {
    const n = 40
    var angle[n] init 0 usual 1
    var speed[n] init 0 usual 1
    var v[n]
    var w[n]
    let force = if time < pi * 1 s then 1.5 * sin(time / 1 s)^2 else 0
    v[1] = n^4*(-3*angle[1] + angle[2]) + n^2*force*(cos(angle[1]) + sin(angle[1]))
    for i in 2 .. n - 1 { v[i] = n^4*(angle[i-1] - 2*angle[i] + angle[i+1]) + n^2*force*(cos(angle[i]) + sin(angle[i])) }
    v[n] = n^4*(angle[n-1] - angle[n]) + n^2*force*(cos(angle[n]) + sin(angle[n]))
    w[1] - cos(angle[2] - angle[1])*w[2] = sin(angle[2] - angle[1])*v[2] + speed[1]^2
    for i in 2 .. n - 1 {
        2*w[i] - cos(angle[i] - angle[i-1])*w[i-1] - cos(angle[i+1] - angle[i])*w[i+1] = sin(angle[i+1] - angle[i])*v[i+1] - sin(angle[i] - angle[i-1])*v[i-1] + speed[i]^2
    }
    3*w[n] - cos(angle[n] - angle[n-1])*w[n-1] = speed[n]^2 - sin(angle[n] - angle[n-1])*v[n-1]
    speed[1]' = v[1] - cos(angle[2] - angle[1])*v[2] + sin(angle[2] - angle[1])*w[2]
    for i in 2 .. n - 1 {
        speed[i]' = 2*v[i] - cos(angle[i] - angle[i-1])*v[i-1] - cos(angle[i+1] - angle[i])*v[i+1] - sin(angle[i] - angle[i-1])*w[i-1] + sin(angle[i+1] - angle[i])*w[i+1]
    }
    speed[n]' = 3*v[n] - cos(angle[n] - angle[n-1])*v[n-1] - sin(angle[n] - angle[n-1])*w[n-1]
    for i in 1 .. n { angle[i]' = speed[i] }
}
)";
    p.printed = {{0, -0.5792366591294675e-2}, {1, -0.1695298550721735e-1}};
    return p;
}

}  // namespace published
