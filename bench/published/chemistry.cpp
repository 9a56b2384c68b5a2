// SPDX-License-Identifier: Apache-2.0
#include <array>

#include "problem.hpp"

namespace published {
namespace {

using std::sqrt;

// Schäfer (1975), A new approach to explain the "high irradiance responses" of photomorphogenesis; as printed in Hairer and Wanner (1996).
struct Hires {
    template <class T>
    void rates(double, const T* y, T* f) const
    {
        T light = 280 * y[5] * y[7];
        f[0] = -1.71 * y[0] + 0.43 * y[1] + 8.32 * y[2] + 0.0007;
        f[1] = 1.71 * y[0] - 8.75 * y[1];
        f[2] = -10.03 * y[2] + 0.43 * y[3] + 0.035 * y[4];
        f[3] = 8.32 * y[1] + 1.71 * y[2] - 1.12 * y[3];
        f[4] = -1.745 * y[4] + 0.43 * y[5] + 0.43 * y[6];
        f[5] = -light + 0.69 * y[3] + 1.71 * y[4] - 0.43 * y[5] + 0.69 * y[6];
        f[6] = light - 1.81 * y[6];
        f[7] = -light + 1.81 * y[6];
    }
};

// Verwer (1994), Gauss-Seidel iteration for stiff ODEs from chemical kinetics: 25 reactions of 20 species.
struct Pollution {
    std::array<double, 25> k{.35,    26.6,  1.23e4, 8.6e-4, 8.2e-4, 1.5e4,   1.3e-4, 2.4e4, 1.65e4, 9e3,   .022, 1.2e4, 1.88,
                             1.63e4, 4.8e6, 3.5e-4, .0175,  1e8,    4.44e11, 1240,   2.1,   5.78,   .0474, 1780, 3.12};
    template <class T>
    void rates(double, const T* y, T* f) const
    {
        const T r1 = k[0] * y[0], r2 = k[1] * y[1] * y[3], r3 = k[2] * y[4] * y[1], r4 = k[3] * y[6], r5 = k[4] * y[6], r6 = k[5] * y[6] * y[5],
                r7 = k[6] * y[8], r8 = k[7] * y[8] * y[5], r9 = k[8] * y[10] * y[1], r10 = k[9] * y[10] * y[0], r11 = k[10] * y[12], r12 = k[11] * y[9] * y[1],
                r13 = k[12] * y[13], r14 = k[13] * y[0] * y[5], r15 = k[14] * y[2], r16 = k[15] * y[3], r17 = k[16] * y[3], r18 = k[17] * y[15],
                r19 = k[18] * y[15], r20 = k[19] * y[16] * y[5], r21 = k[20] * y[18], r22 = k[21] * y[18], r23 = k[22] * y[0] * y[3],
                r24 = k[23] * y[18] * y[0], r25 = k[24] * y[19];
        f[0] = r2 + r3 + r9 + r11 + r12 + r22 + r25 - r1 - r10 - r14 - r23 - r24;
        f[1] = r1 + r21 - r2 - r3 - r9 - r12;
        f[2] = r1 + r17 + r19 + r22 - r15;
        f[3] = r15 - r2 - r16 - r17 - r23;
        f[4] = 2 * r4 + r6 + r7 + r13 + r20 - r3;
        f[5] = r3 + 2 * r18 - r6 - r8 - r14 - r20;
        f[6] = r13 - r4 - r5 - r6;
        f[7] = r4 + r5 + r6 + r7;
        f[8] = -r7 - r8;
        f[9] = r7 + r9 - r12;
        f[10] = r8 + r11 - r9 - r10;
        f[11] = r9;
        f[12] = r10 - r11;
        f[13] = r12 - r13;
        f[14] = r14;
        f[15] = r16 - r18 - r19;
        f[16] = -r20;
        f[17] = r20;
        f[18] = r23 + r25 - r21 - r22 - r24;
        f[19] = r24 - r25;
    }
};

// Field and Noyes (1974), the Belousov-Zhabotinsky reaction; as printed in Hairer and Wanner (1996).
struct Oregonator {
    template <class T>
    void rates(double, const T* y, T* f) const
    {
        f[0] = 77.27 * (y[1] + y[0] * (1 - 8.375e-6 * y[0] - y[1]));
        f[1] = (y[2] - (1 + y[0]) * y[1]) / 77.27;
        f[2] = 0.161 * (y[0] - y[2]);
    }
};

// Robertson (1966), The solution of a set of reaction rate equations.
struct Robertson {
    template <class T>
    void rates(double, const T* y, T* f) const
    {
        T a = 0.04 * y[0], b = 1e4 * y[1] * y[2], c = 3e7 * y[1] * y[1];
        f[0] = b - a;
        f[1] = a - b - c;
        f[2] = c;
    }
};

// A reaction at Akzo Nobel Central Research, with an equilibrium beside five rates; as in Mazzia and Magherini (2008).
struct AkzoNobel {
    template <class T>
    void residual(double, const T* y, const T* dy, T* f) const
    {
        T square = y[0] * y[0], r1 = 18.7 * square * square * sqrt(y[1]), r2 = 0.58 * y[2] * y[3], r3 = 0.58 / 34.4 * y[0] * y[4],
          r4 = 0.09 * y[0] * y[3] * y[3], r5 = 0.42 * y[5] * y[5] * sqrt(y[1]);
        f[0] = 2 * r1 - r2 + r3 + r4 + dy[0];
        f[1] = 0.5 * r1 + r4 + 0.5 * r5 - 3.3 * (0.9 / 737 - y[1]) + dy[1];
        f[2] = r2 - r1 - r3 + dy[2];
        f[3] = r2 - r3 + 2 * r4 + dy[3];
        f[4] = r3 - r2 - r5 + dy[4];
        f[5] = 115.83 * y[0] * y[3] - y[5];
    }
};

}  // namespace

Problem hires()
{
    Problem p;
    p.name = "HIRES";
    p.source = "Schäfer (1975)";
    write_explicit<8>(p, Hires{});
    p.stop = 321.8122;
    p.start = {1, 0, 0, 0, 0, 0, 0, 0.0057};
    p.usual.assign(8, 1e-3);
    p.paths = numbered("y", 8);
    p.text = R"(system Hires {
    var y1 init 1 usual 1e-3
    var y2, y3, y4, y5, y6, y7 init 0 usual 1e-3
    var y8 init 0.0057 usual 1e-3
    param k1 = 1.71 ; param k2 = 0.43 ; param k3 = 8.32 ; param k4 = 0.69 ; param k5 = 0.035 ; param k6 = 8.32
    param k_plus = 280 ; param k_minus = 0.69 ; param k_star = 0.69 ; param source = 0.0007
    y1' = -k1*y1 + k2*y2 + k6*y3 + source
    y2' = k1*y1 - (k2 + k3)*y2
    y3' = -(k6 + k1)*y3 + k2*y4 + k5*y5
    y4' = k3*y2 + k1*y3 - (k4 + k2)*y4
    y5' = -(k5 + k1)*y5 + k2*y6 + k2*y7
    y6' = -k_plus*y6*y8 + k4*y4 + k1*y5 - k2*y6 + k_minus*y7
    y7' = k_plus*y6*y8 - (k2 + k_minus + k_star)*y7
    y8' = -k_plus*y6*y8 + (k2 + k_minus + k_star)*y7
}
)";
    p.printed = {{0, 0.7371312573325668e-3}, {1, 0.1442485726316185e-3}, {2, 0.5888729740967575e-4}, {3, 0.1175651343283149e-2},
                 {4, 0.2386356198831331e-2}, {5, 0.6238968252742796e-2}, {6, 0.2849998395185769e-2}, {7, 0.2850001604814231e-2}};
    return p;
}

Problem pollution()
{
    Problem p;
    p.name = "pollution";
    p.source = "Verwer (1994)";
    write_explicit<20>(p, Pollution{});
    p.stop = 60;
    p.start.assign(20, 0);
    p.start[1] = 0.2, p.start[3] = 0.04, p.start[6] = 0.1, p.start[7] = 0.3, p.start[8] = 0.01, p.start[16] = 0.007;
    p.usual.assign(20, 1e-3);
    p.paths = numbered("y", 20, true);
    p.text = R"(system Pollution {
    var y[20] usual 1e-3
    var r[25]
    param k1 = 0.35 ; param k2 = 26.6 ; param k3 = 1.23e4 ; param k4 = 8.6e-4 ; param k5 = 8.2e-4 ; param k6 = 1.5e4 ; param k7 = 1.3e-4
    param k8 = 2.4e4 ; param k9 = 1.65e4 ; param k10 = 9e3 ; param k11 = 0.022 ; param k12 = 1.2e4 ; param k13 = 1.88 ; param k14 = 1.63e4
    param k15 = 4.8e6 ; param k16 = 3.5e-4 ; param k17 = 0.0175 ; param k18 = 1e8 ; param k19 = 4.44e11 ; param k20 = 1240 ; param k21 = 2.1
    param k22 = 5.78 ; param k23 = 0.0474 ; param k24 = 1780 ; param k25 = 3.12
    r[1] = k1*y[1] ; r[2] = k2*y[2]*y[4] ; r[3] = k3*y[5]*y[2] ; r[4] = k4*y[7] ; r[5] = k5*y[7] ; r[6] = k6*y[7]*y[6] ; r[7] = k7*y[9]
    r[8] = k8*y[9]*y[6] ; r[9] = k9*y[11]*y[2] ; r[10] = k10*y[11]*y[1] ; r[11] = k11*y[13] ; r[12] = k12*y[10]*y[2] ; r[13] = k13*y[14]
    r[14] = k14*y[1]*y[6] ; r[15] = k15*y[3] ; r[16] = k16*y[4] ; r[17] = k17*y[4] ; r[18] = k18*y[16] ; r[19] = k19*y[16] ; r[20] = k20*y[17]*y[6]
    r[21] = k21*y[19] ; r[22] = k22*y[19] ; r[23] = k23*y[1]*y[4] ; r[24] = k24*y[19]*y[1] ; r[25] = k25*y[20]
    y[1]' = -r[1] - r[10] - r[14] - r[23] - r[24] + r[2] + r[3] + r[9] + r[11] + r[12] + r[22] + r[25]
    y[2]' = -r[2] - r[3] - r[9] - r[12] + r[1] + r[21]
    y[3]' = -r[15] + r[1] + r[17] + r[19] + r[22]
    y[4]' = -r[2] - r[16] - r[17] - r[23] + r[15]
    y[5]' = -r[3] + 2*r[4] + r[6] + r[7] + r[13] + r[20]
    y[6]' = -r[6] - r[8] - r[14] - r[20] + r[3] + 2*r[18]
    y[7]' = -r[4] - r[5] - r[6] + r[13]
    y[8]' = r[4] + r[5] + r[6] + r[7]
    y[9]' = -r[7] - r[8]
    y[10]' = -r[12] + r[7] + r[9]
    y[11]' = -r[9] - r[10] + r[8] + r[11]
    y[12]' = r[9]
    y[13]' = -r[11] + r[10]
    y[14]' = -r[13] + r[12]
    y[15]' = r[14]
    y[16]' = -r[18] - r[19] + r[16]
    y[17]' = -r[20]
    y[18]' = r[20]
    y[19]' = -r[21] - r[22] - r[24] + r[23] + r[25]
    y[20]' = -r[25] + r[24]
    for i in 1 .. 20 { init y[i] = if i == 2 then 0.2 else if i == 4 then 0.04 else if i == 7 then 0.1 else if i == 8 then 0.3 else if i == 9 then 0.01 else if i == 17 then 0.007 else 0 }
}
)";
    p.printed = {{0, 0.5646255480022769e-1}, {1, 0.1342484130422339}, {2, 0.4139734331099427e-8}, {3, 0.5523140207484359e-2}};
    return p;
}

Problem oregonator()
{
    Problem p;
    p.name = "Oregonator";
    p.source = "Field and Noyes (1974)";
    write_explicit<3>(p, Oregonator{});
    p.stop = 360;
    p.start = {1, 2, 3};
    p.usual = {1, 1, 1};
    p.paths = numbered("y", 3);
    p.text = R"(system Oregonator {
    var y1 init 1 usual 1
    var y2 init 2 usual 1
    var y3 init 3 usual 1
    param s = 77.27 ; param q = 8.375e-6 ; param w = 0.161
    y1' = s*(y2 + y1*(1 - q*y1 - y2))
    s*y2' = y3 - (1 + y1)*y2
    y3' = w*(y1 - y3)
}
)";
    p.printed = {{0, 1.000814870318523}, {1, 1228.178521549917}, {2, 132.0554942846706}};
    return p;
}

Problem robertson()
{
    Problem p;
    p.name = "Robertson";
    p.source = "Robertson (1966)";
    write_explicit<3>(p, Robertson{});
    p.stop = 1e11;
    p.start = {1, 0, 0};
    p.usual = {1e-6, 1e-10, 1e-3};
    p.paths = numbered("y", 3);
    p.text = R"(system Robertson {
    var y1 init 1 usual 1e-6
    var y2 init 0 usual 1e-10
    var y3 init 0 usual 1e-3
    param k1 = 0.04 ; param k2 = 1e4 ; param k3 = 3e7
    y1' = k2*y2*y3 - k1*y1
    y2' = k1*y1 - k2*y2*y3 - k3*y2^2
    y3' = k3*y2^2
}
)";
    p.printed = {{0, 0.2083340149701255e-7}, {1, 0.8333360770334713e-13}, {2, 0.9999999791665050}};
    return p;
}

Problem akzo_nobel()
{
    Problem p;
    p.name = "Akzo Nobel";
    p.source = "Mazzia and Magherini (2008)";
    write_implicit<6>(p, AkzoNobel{});
    p.stop = 180;
    p.start = {0.444, 0.00123, 0, 0.007, 0, 115.83 * 0.444 * 0.007};
    p.usual = {0.1, 1e-3, 0.1, 1e-3, 0.01, 0.1};
    p.start_rates.assign(6, 0);
    std::vector<double> f(6);
    p.residual(0, p.start.data(), p.start_rates.data(), f.data());
    for (std::size_t i = 0; i < 5; ++i) p.start_rates[i] = -f[i];
    p.start_rates[5] = 115.83 * (p.start_rates[0] * p.start[3] + p.start[0] * p.start_rates[3]);
    p.paths = numbered("y", 6);
    p.n_sized = 5;
    p.text = R"(system AkzoNobel {
    var y1 init 0.444 usual 0.1
    var y2 init 0.00123 usual 1e-3
    var y3 init 0 usual 0.1
    var y4 init 0.007 usual 1e-3
    var y5 init 0 usual 0.01
    var y6 usual 0.1
    param k1 = 18.7 ; param k2 = 0.58 ; param k3 = 0.09 ; param k4 = 0.42 ; param equilibrium = 34.4 ; param supply = 3.3
    param solubility = 115.83 ; param pressure = 0.9 ; param henry = 737
    var r1, r2, r3, r4, r5, inflow
    r1 = k1*y1^4*sqrt(y2)
    r2 = k2*y3*y4
    r3 = k2/equilibrium*y1*y5
    r4 = k3*y1*y4^2
    r5 = k4*y6^2*sqrt(y2)
    inflow = supply*(pressure/henry - y2)
    y1' = -2*r1 + r2 - r3 - r4
    y2' = -0.5*r1 - r4 - 0.5*r5 + inflow
    y3' = r1 - r2 + r3
    y4' = -r2 + r3 - 2*r4
    y5' = r2 - r3 + r5
    solubility*y1*y4 = y6
}
)";
    p.printed = {{0, 0.1150794920661702},    {1, 0.1203831471567715e-2}, {2, 0.1611562887407974},
                 {3, 0.3656156421249283e-3}, {4, 0.1708010885264404e-1}, {5, 0.4873531310307455e-2}};
    return p;
}

}  // namespace published
