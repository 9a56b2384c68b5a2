// SPDX-License-Identifier: Apache-2.0
// Properties of fluids against published tables and formulas, asked as a program asks them.
#include <doctest/doctest.h>

#include <cmath>
#include <netloop/property.hpp>
#include <thread>

#include "support/support.hpp"

using namespace netloop;

namespace {

double ask(const std::string& fluid, const std::string& function, const std::vector<double>& at)
{
    return FluidProperty(fluid, function)(at);
}

constexpr double kZero = 273.15;

}  // namespace

TEST_SUITE_BEGIN("library");

TEST_CASE("water: density, viscosity, vapour pressure and conductivity of the tables")
{
    // IAPWS-95 and its transport formulations at 1 bar (vapour pressure: at saturation)
    struct Row {
        double t, rho, eta, p_v, k;
    };
    for (const Row& w : {Row{0, 999.84, 1.7916e-3, 611.2, 0.5610}, Row{20, 998.21, 1.0016e-3, 2339.3, 0.5984}, Row{40, 992.22, 0.6530e-3, 7384.9, 0.6305},
                         Row{60, 983.20, 0.4660e-3, 19946, 0.6543}, Row{80, 971.79, 0.3544e-3, 47414, 0.6700}}) {
        INFO(w.t);
        CHECK(ask("water", "density", {1e5, kZero + w.t}) == doctest::Approx(w.rho).epsilon(1e-4));
        CHECK(ask("water", "viscosity", {1e5, kZero + w.t}) == doctest::Approx(w.eta).epsilon(0.025));
        CHECK(ask("water", "vapour_pressure", {kZero + w.t}) == doctest::Approx(w.p_v).epsilon(w.t <= 60 ? 0.01 : 0.02));
        CHECK(ask("water", "conductivity", {1e5, kZero + w.t}) == doctest::Approx(w.k).epsilon(0.01));
        CHECK(ask("water", "cp", {1e5, kZero + w.t}) == doctest::Approx(4190).epsilon(0.01));
    }
    CHECK(ask("water", "sound", {1e5, kZero + 20, 0, 0}) == doctest::Approx(std::sqrt(2.15e9 / 998.21)).epsilon(1e-4));
}

TEST_CASE("water and glycol: catalogue values of the mixture by equal volumes")
{
    for (auto [t, gravity, eta] : {std::array{4.44, 1088.0, 6.5e-3}, std::array{48.9, 1064.0, 1.6e-3}, std::array{93.3, 1034.0, 0.67e-3}}) {
        CHECK(ask("coolant", "density", {1e5, kZero + t}) == doctest::Approx(gravity).epsilon(2e-3));
        CHECK(ask("coolant", "viscosity", {1e5, kZero + t}) == doctest::Approx(eta).epsilon(0.03));
    }
}

TEST_CASE("mineral oil: Cragoe's heat capacity and conductivity, Barus' law, temperature as the inverse of enthalpy")
{
    for (double t : {0.0, 40.0, 100.0}) {
        double s = 0.870;
        CHECK(ask("oil", "cp", {1e5, kZero + t}) == doctest::Approx((1.685 + 0.0034 * t) / std::sqrt(s) * 1e3).epsilon(2e-3));
        CHECK(ask("oil", "conductivity", {1e5, kZero + t}) == doctest::Approx(0.117 * (1 - 0.00054 * t) / s).epsilon(2e-2));
        for (double p : {1e5, 300e5})
            CHECK(ask("oil", "temperature_at", {p, ask("oil", "enthalpy", {p, kZero + t})}) == doctest::Approx(kZero + t).epsilon(1e-12));
    }
    double thin = ask("MineralOil(grade = 46 cSt, pressure_viscosity = 2e-8 Pa^-1)", "viscosity", {1e5, kZero + 40});
    CHECK(thin == doctest::Approx(46e-6 * 870 * (1 - 7e-4 * 25)).epsilon(1e-9));
    CHECK(ask("MineralOil(grade = 46 cSt, pressure_viscosity = 2e-8 Pa^-1)", "viscosity", {301e5, kZero + 40}) ==
          doctest::Approx(thin * std::exp(0.6)).epsilon(1e-9));
    // enthalpy: what a throttle from 200 bar does to the temperature
    double h = ask("oil", "enthalpy", {200e5, kZero + 40});
    CHECK(ask("oil", "temperature_at", {0, h}) - (kZero + 40) == doctest::Approx(200e5 / (870 * 1970.0)).epsilon(3e-3));
}

TEST_CASE("aerated oil: the effective bulk modulus from 0.1 to 50 bar with 0 to 30 % air, as derived by hand")
{
    // undissolved air of volume beta V0 at 1.013 bar and 0 degC beside liquid of volume V0 exp(-(p - 1 bar) / K)
    constexpr double K = 1.4e9, T = kZero + 40, p0 = 101325;
    for (double exponent : {1.0, 1.4}) {
        FluidProperty modulus("MineralOil(air = fixed, air_exponent = " + std::to_string(exponent) + ")", "tangent_modulus");
        FluidProperty secant("MineralOil(air = fixed, air_exponent = " + std::to_string(exponent) + ")", "secant_modulus");
        FluidProperty empty("MineralOil(air = fixed, air_exponent = " + std::to_string(exponent) + ")", "void_fraction");
        double rho0 = 870 * (1 - 7e-4 * 25);  // at 40 degC and 1 bar
        for (double beta : {0.0, 0.01, 0.05, 0.30}) {
            double air = beta * 1.2928, share = air / (870 + air);
            for (double p : {0.1e5, 0.5e5, 1e5, 5e5, 20e5, 50e5}) {
                INFO(beta << " " << p);
                double liquid = (1 - share) / rho0 * std::exp(-(p - 1e5) / K);
                double bubbles = share * 287.05 * T / p0 * std::pow(p0 / p, 1 / exponent);
                double softness = liquid / K + bubbles / (exponent * p);
                CHECK(modulus({p, T, share, share}) == doctest::Approx((liquid + bubbles) / softness).epsilon(1e-3));
                CHECK(empty({p, T, share, share}) == doctest::Approx(bubbles / (liquid + bubbles)).epsilon(1e-3));
                double before = (1 - share) / rho0 * std::exp(-(p0 - 1e5) / K) + share * 287.05 * T / p0;
                if (p > p0) CHECK(secant({p, T, share, share}) == doctest::Approx(before * (p - p0) / (before - liquid - bubbles)).epsilon(1e-3));
            }
        }
    }
    // 1 % of air at atmospheric pressure makes oil a hundred times softer: K = p / beta, nearly
    double share = 0.01 * 1.2928 / (870 + 0.01 * 1.2928);
    CHECK(ask("MineralOil(air = fixed)", "tangent_modulus", {101325, kZero, share, share}) == doctest::Approx(101325 / 0.01).epsilon(0.03));
}

TEST_CASE("Henry's law: what is dissolved, what is left, and where saturation lies")
{
    std::string oil = "MineralOil(air = fixed, solubility = 9 %)";
    double normal = 1.2928 / 870;  // share of air per volume share
    CHECK(ask(oil, "dissolved_limit", {101325}) == doctest::Approx(0.09 * normal).epsilon(1e-9));
    CHECK(ask(oil, "dissolved_limit", {10 * 101325.0}) == doctest::Approx(0.90 * normal).epsilon(1e-9));
    CHECK(ask(oil, "free_air", {101325, 0.15 * normal}) == doctest::Approx(0.06 * normal).epsilon(2e-3));
    CHECK(ask(oil, "free_air", {50e5, 0.15 * normal}) < 2e-5 * 0.15 * normal * 2);
}

TEST_CASE("gases: heat capacity, enthalpy and entropy of the JANAF tables")
{
    struct Row {
        const char* gas;
        double molar, cp_500, cp_1000, cp_1500, rise_1000, entropy_1000;  // g/mol, J/(mol K), kJ/mol from 298.15 K, J/(mol K)
        double within;
    };
    // Chase (1998); methane: Gurvich (1991)
    for (const Row& g :
         {Row{"nitrogen", 28.0134, 29.580, 32.697, 34.852, 21.463, 228.170, 1e-3}, Row{"oxygen", 31.9988, 31.091, 34.870, 36.544, 22.703, 243.578, 1e-3},
          Row{"carbon_dioxide", 44.0095, 44.627, 54.308, 58.379, 33.397, 269.299, 1e-3},
          Row{"water_vapour", 18.01528, 35.226, 41.268, 47.090, 26.000, 232.738, 5e-3}, Row{"methane", 16.0425, 46.63, 73.60, 90.86, 38.68, 248.3, 5e-3}}) {
        INFO(g.gas);
        FluidProperty cp(std::string("fluids.") + g.gas, "cp"), h(std::string("fluids.") + g.gas, "enthalpy"), s(std::string("fluids.") + g.gas, "entropy");
        double M = g.molar * 1e-3;
        CHECK(cp({1e5, 500}) * M == doctest::Approx(g.cp_500).epsilon(g.within));
        CHECK(cp({1e5, 1000}) * M == doctest::Approx(g.cp_1000).epsilon(g.within));
        CHECK(cp({1e5, 1500}) * M == doctest::Approx(g.cp_1500).epsilon(std::max(g.within, 3e-3)));  // as the text of nitrogen states
        CHECK(h({1e5, 298.15}) == doctest::Approx(0).scale(1));
        CHECK((h({1e5, 1000}) - h({1e5, 298.15})) * M == doctest::Approx(g.rise_1000 * 1e3).epsilon(g.within));
        CHECK(s({1e5, 1000}) * M == doctest::Approx(g.entropy_1000).epsilon(1e-3));
        // thermodynamics: dh = cp dT, ds = cp dT / T, on both sides of the seam at 1000 K
        for (double T : {400.0, 999.0, 1001.0, 2000.0}) {
            CHECK((h({1e5, T + 0.5}) - h({1e5, T - 0.5})) == doctest::Approx(cp({1e5, T})).epsilon(1e-5));
            CHECK((s({1e5, T + 0.5}) - s({1e5, T - 0.5})) == doctest::Approx(cp({1e5, T}) / T).epsilon(1e-5));
        }
        CHECK(s({2e5, 500}) - s({1e5, 500}) == doctest::Approx(-8.314462618 / M * std::log(2)).epsilon(1e-9));
    }
}

TEST_CASE("air: heat capacity, viscosity and conductivity of the tables; gas viscosities")
{
    struct Row {
        double T, cp, eta, k;
    };
    for (const Row& a : {Row{250, 1006, 1.596e-5, 0.0223}, Row{300, 1007, 1.846e-5, 0.0263}, Row{500, 1030, 2.701e-5, 0.0407}, Row{800, 1099, 3.698e-5, 0.0573},
                         Row{1000, 1141, 4.244e-5, 0.0667}}) {  // Incropera and DeWitt
        INFO(a.T);
        CHECK(ask("air", "cp", {1e5, a.T}) == doctest::Approx(a.cp).epsilon(3.5e-3));
        CHECK(ask("air", "viscosity", {1e5, a.T}) == doctest::Approx(a.eta).epsilon(0.02));
        CHECK(ask("air", "conductivity", {1e5, a.T}) == doctest::Approx(a.k).epsilon(0.03));
    }
    CHECK(ask("nitrogen", "viscosity", {1e5, 600}) == doctest::Approx(2.908e-5).epsilon(0.02));
    CHECK(ask("oxygen", "viscosity", {1e5, 600}) == doctest::Approx(3.437e-5).epsilon(0.02));
    CHECK(ask("carbon_dioxide", "viscosity", {1e5, 600}) == doctest::Approx(2.73e-5).epsilon(0.04));
    CHECK(ask("methane", "viscosity", {1e5, 300}) == doctest::Approx(1.113e-5).epsilon(0.04));
    CHECK(ask("water_vapour", "viscosity", {1e5, 600}) == doctest::Approx(2.143e-5).epsilon(0.04));
    CHECK(ask("carbon_dioxide", "conductivity", {1e5, 400}) == doctest::Approx(0.0243).epsilon(0.03));
    CHECK(ask("water_vapour", "conductivity", {1e5, 500}) == doctest::Approx(0.0339).epsilon(0.05));
    CHECK(ask("air", "density", {1.01325e5, 288.15}) == doctest::Approx(1.225).epsilon(1e-4));
    CHECK(ask("air", "sound", {1.01325e5, 288.15}) == doctest::Approx(340.29).epsilon(1e-3));
    CHECK(ask("air", "kappa", {1e5, 300}) == doctest::Approx(1.400).epsilon(2e-3));
}

TEST_CASE("combustion gas: composition and air demand of methane by hand")
{
    // CH4 + 2 l (O2 + 3.7270 N2 + 0.0444 Ar) -> CO2 + 2 H2O + 2 (l - 1) O2 + ...
    double l = 3.2, n2 = 2 * l * 0.7808 / 0.2095, ar = 2 * l * 0.0093 / 0.2095, o2 = 2 * (l - 1), moles = 1 + 2 + o2 + n2 + ar;
    double mass = 44.0095 + 2 * 18.01528 + o2 * 31.9988 + n2 * 28.0134 + ar * 39.948;
    FluidProperty density("CombustionGas(carbon = 1, hydrogen = 4, excess_air = 220 %)", "density");
    CHECK(density({1e5, 1000}) == doctest::Approx(1e5 * mass / moles * 1e-3 / (8.314462618 * 1000)).epsilon(1e-9));
    FluidProperty cp("CombustionGas(carbon = 1, hydrogen = 4, excess_air = 220 %)", "cp");
    double sum = 54.308 + 2 * 41.268 + o2 * 34.870 + n2 * 32.697 + ar * 20.786;
    CHECK(cp({1e5, 1000}) == doctest::Approx(sum / mass * 1e3).epsilon(1.5e-3));
    CHECK(ask("CombustionGas(excess_air = 0 %)", "air_per_fuel", {}) == doctest::Approx(17.24).epsilon(2e-3));
}

TEST_CASE("the standard atmosphere: the tables of ISO 2533")
{
    struct Row {
        double z, T, p, rho, a;
    };
    for (const Row& h :
         {Row{0, 288.150, 101325, 1.22500, 340.294}, Row{1000, 281.651, 89876.3, 1.11166, 336.435}, Row{5000, 255.676, 54048.3, 0.736429, 320.545},
          Row{11000, 216.774, 22699.9, 0.364801, 295.154}, Row{15000, 216.650, 12111.8, 0.194755, 295.069}, Row{25000, 221.552, 2549.21, 0.0400837, 298.389},
          Row{40000, 250.350, 287.143, 3.99565e-3, 317.189}, Row{50000, 270.650, 79.7787, 1.02687e-3, 329.799},
          Row{60000, 247.021, 21.9586, 3.09676e-4, 315.073}}) {
        INFO(h.z);
        CHECK(ask("atmosphere", "temperature", {h.z}) == doctest::Approx(h.T).epsilon(1e-5));
        CHECK(ask("atmosphere", "pressure", {h.z}) == doctest::Approx(h.p).epsilon(1e-4));
        CHECK(ask("atmosphere", "density", {h.z}) == doctest::Approx(h.rho).epsilon(1e-4));
        CHECK(ask("atmosphere", "sound", {h.z}) == doctest::Approx(h.a).epsilon(1e-5));
    }
    CHECK(ask("atmosphere", "viscosity", {0}) == doctest::Approx(1.7894e-5).epsilon(1e-4));
}

TEST_CASE("the same property from equations, from a program and by several threads; wrong questions are told")
{
    Recording r = test::simulate(
        "system S { var T : K init 300 K ; T' = 1 K/s ; let c = fluids.air.cp(1 bar, T) ; let z = fluids.atmosphere.pressure(1 km * time / (1 s)) }", 2, 1e-9);
    FluidProperty cp("fluids.air", "cp");
    CHECK(r["c"].final() == doctest::Approx(cp({1e5, 302})).epsilon(1e-9));
    CHECK(r["z"].final() == doctest::Approx(ask("atmosphere", "pressure", {2000})).epsilon(1e-9));
    CHECK(cp.unit() == "J/(kg*K)");
    REQUIRE(cp.arguments().size() == 2);
    CHECK(cp.arguments()[1].unit == "K");
    std::vector<double> found(4);
    std::vector<std::thread> threads;
    for (std::size_t i = 0; i < 4; ++i)
        threads.emplace_back([&, i] {
            for (int k = 0; k < 200; ++k) found[i] = cp({1e5, 300.0 + 100.0 * static_cast<double>(i)});
        });
    for (auto& t : threads) t.join();
    for (std::size_t i = 0; i < 4; ++i) CHECK(found[i] == cp({1e5, 300.0 + 100.0 * static_cast<double>(i)}));
    CHECK_THROWS_AS(FluidProperty("fluids.airr", "cp"), UsageError);
    CHECK_THROWS_AS(FluidProperty("fluids.air", "heat"), UsageError);
    CHECK_THROWS_AS(FluidProperty("fluids.air(nitrogen = 1)", "cp"), UsageError);
    CHECK_THROWS_AS(FluidProperty("MineralOil(grade = 3 bar)", "density"), ModelError);
    CHECK_THROWS_AS(cp({1e5}), UsageError);
    CHECK(std::isnan(ask("air", "entropy", {-1e5, 300})));
    CHECK(FluidProperty::list("water").size() >= 15);
}

TEST_SUITE_END();
