// SPDX-License-Identifier: Apache-2.0
// Walls, surfaces, exchangers and a building against series solutions, correlations in tables, and effectiveness formulas.
#include <doctest/doctest.h>

#include <array>
#include <cmath>
#include <netloop/property.hpp>

#include "support/support.hpp"

using namespace netloop;

namespace {

constexpr double kPi = 3.14159265358979323846;

Recording run(const std::string& body, double stop, double every = 0, double tolerance = 1e-8)
{
    return test::simulate_parts("heat, hydraulics, fluids, electrics, mechanics, control", body, stop, tolerance, every);
}

}  // namespace

TEST_SUITE_BEGIN("library");

TEST_CASE("Layer: warming from one face against the series of Carslaw and Jaeger, error falling with the square of the slices")
{
    // one face jumps to 1, the other is insulated: T(L, t) = 1 - 4/pi sum (-1)^n / (2n+1) exp(-(2n+1)^2 pi^2 a t / 4 L^2)
    double L = 0.2, a = 2.1 / (2400 * 1000.0), t = 0.3 * L * L / a, sum = 0;
    for (int n = 0; n < 50; ++n) sum += (n % 2 == 0 ? 1.0 : -1.0) / (2 * n + 1) * std::exp(-std::pow((2 * n + 1) * kPi / 2, 2) * 0.3);
    double wanted = 20 + 60 * (1 - 4 / kPi * sum);
    auto error = [&](const std::string& slices) {
        Recording r = run("part l : Layer(n = " + slices +
                              ", thickness = 200 mm, start = 20 degC)\n part hot : Surroundings(temperature = 80 degC)\n hot.surface -- l.a\n for i in 2 .. " +
                              std::to_string(std::stoi(slices) + 1) + " { init l.T[i] = 20 degC }",
                          t);
        return r["l.b.T"].final() - 273.15 - wanted;
    };
    double coarse = error("10"), fine = error("20");
    CHECK(std::abs(fine) < 0.03);
    CHECK(coarse / fine == doctest::Approx(4).epsilon(0.1));
}

TEST_CASE("Wall: U-value by hand, and the heat that flows once it has settled")
{
    Recording r =
        run("part w : Wall(area = 12 m^2)\n part room : Surroundings(temperature = 20 degC)\n part out : Surroundings(temperature = -10 degC)\n room.surface "
            "-- w.inside ; w.outside -- "
            "out.surface",
            60 * 86400.0);
    double u = 1 / (1 / 7.7 + 0.2 / 2.1 + 0.1 / 0.035 + 1 / 25.0);
    CHECK(r["w.u_value"].final() == doctest::Approx(u).epsilon(1e-12));
    CHECK(r["room.surface.heat"].final() == doctest::Approx(-u * 12 * 30).epsilon(1e-6));
}

TEST_CASE("Radiation and Contact by their laws")
{
    Recording r =
        run("part a : Surroundings(temperature = 600 degC)\n part b : Surroundings(temperature = 20 degC)\n part q : Radiation(area = 0.5 m^2, exchange = "
            "0.8)\n part c : Contact(area = 40 "
            "cm^2, resistance = 1e-4 m^2*K/W)\n a.surface -- q.a -- c.a ; q.b -- c.b -- b.surface",
            1);
    CHECK(r["q.flow"].final() == doctest::Approx(5.670374e-8 * 0.5 * 0.8 * (std::pow(873.15, 4) - std::pow(293.15, 4))).epsilon(1e-9));
    CHECK(r["c.flow"].final() == doctest::Approx(40e-4 / 1e-4 * 580).epsilon(1e-9));
}

TEST_CASE("FreeConvection: the correlation of Churchill and Chu")
{
    Recording r =
        run("part a : Surroundings(temperature = 32 degC)\n part b : Surroundings(temperature = 22 degC)\n part q : FreeConvection(area = 1 m^2, height = 1 "
            "m)\n a.surface -- q.a ; q.b -- "
            "b.surface",
            1);
    double Ra = 9.80665 / 300.15 * 10 / (15.89e-6 * 22.5e-6);
    double Nu = std::pow(0.825 + 0.387 * std::pow(Ra, 1 / 6.0) / std::pow(1 + std::pow(0.492 / 0.707, 9 / 16.0), 8 / 27.0), 2);
    CHECK(r["q.rayleigh"].final() == doctest::Approx(Ra).epsilon(1e-6));
    CHECK(r["q.flow"].final() == doctest::Approx(Nu * 0.0263 * 10).epsilon(1e-6));
    CHECK(Nu == doctest::Approx(119).epsilon(0.01));  // Churchill and Chu's curve at Ra = 9.1e8
}

TEST_CASE("ForcedConvection: laminar and mixed Nusselt numbers")
{
    for (double speed : {2.0, 30.0}) {
        Recording r =
            run("part a : Surroundings(temperature = 60 degC)\n part b : Surroundings(temperature = 20 degC)\n part q : ForcedConvection(area = 2 m^2, length "
                "= 0.8 m, speed = " +
                    std::to_string(speed) + " m/s)\n a.surface -- q.a ; q.b -- b.surface",
                1);
        double Re = speed * 0.8 / 15.89e-6;
        double Nu = Re < 5e5 ? 0.664 * std::sqrt(Re) * std::cbrt(0.707) : (0.037 * std::pow(Re, 0.8) - 871) * std::cbrt(0.707);
        CHECK(r["q.flow"].final() == doctest::Approx(Nu * 0.0263 / 0.8 * 2 * 40).epsilon(1e-6));
    }
}

TEST_CASE("Room: warms by its gains towards the balance with the air that is exchanged")
{
    Recording r =
        run("part room : Room(volume = 50 m^3, changes = 2 h^-1, furniture = 4, start = 10 degC)\n 600 W -> room.gains\n part out : Surroundings(temperature = "
            "10 degC)\n "
            "room.outside -- out.surface",
            3600, 600);
    double g = 2 / 3600.0 * 50 * 1206, C = 4 * 50 * 1206.0;
    for (std::size_t i = 0; i < r.n_rows(); ++i) {
        double t = r.time().values[i];
        CHECK(r["room.T"].values[i] - 283.15 == doctest::Approx(600 / g * (1 - std::exp(-g / C * t))).scale(1).epsilon(1e-6));
    }
}

TEST_CASE("HeatExchanger: counterflow, parallel and cross flow by effectiveness and transfer units; CellExchanger tends to the same")
{
    auto exchanged = [](const std::string& exchanger, double stop) {
        Recording r =
            run("fluid oil = MineralOil(thermal = true)\n fluid cool = Water(thermal = true)\n part oil_in : FlowSource(oil = oil, flow = 60 L/min, "
                "temperature = 70 degC)\n part oil_out : Tank\n "
                "part water_in : FlowSource(oil = cool, flow = 20 L/min, temperature = 20 degC)\n part water_out : Tank\n part x : " +
                    exchanger +
                    "\n oil_in.outlet -- x.a_inlet ; x.a_outlet -- oil_out.outlet ; water_in.outlet -- x.b_inlet ; x.b_outlet -- water_out.outlet\n let m_a : "
                    "kg/s = x.a_inlet.m\n let m_b : kg/s = "
                    "x.b_inlet.m",
                stop, 0, 1e-7);
        return std::array{r["x.heat"].final(), r["m_a"].final(), r["m_b"].final()};
    };
    // heat capacities as the fluids have them at the inlets
    double c_a = FluidProperty("oil", "cp")({1.5e5, 343.15}), c_b = FluidProperty("water", "cp")({1.5e5, 293.15});
    for (std::string arrangement : {"counter", "parallel", "cross"}) {
        INFO(arrangement);
        auto [heat, m_a, m_b] = exchanged("HeatExchanger(conductance = 1.5 kW/K, arrangement = " + arrangement + ")", 1);
        double Ca = m_a * c_a, Cb = m_b * c_b, least = std::min(Ca, Cb), R = least / std::max(Ca, Cb), N = 1500 / least;
        double e = arrangement == "counter"    ? (1 - std::exp(-N * (1 - R))) / (1 - R * std::exp(-N * (1 - R)))
                   : arrangement == "parallel" ? (1 - std::exp(-N * (1 + R))) / (1 + R)
                                               : 1 - std::exp(std::pow(N, 0.22) / R * (std::exp(-R * std::pow(N, 0.78)) - 1));
        CHECK(heat == doctest::Approx(e * least * 50).epsilon(1e-3));
    }
    double by_units = exchanged("HeatExchanger(conductance = 1.5 kW/K)", 1)[0];
    double coarse = exchanged("CellExchanger(conductance = 1.5 kW/K, n = 6)", 600)[0],
           fine = exchanged("CellExchanger(conductance = 1.5 kW/K, n = 24)", 600)[0];
    CHECK(fine == doctest::Approx(by_units).epsilon(0.03));
    CHECK(std::abs(fine - by_units) < 0.4 * std::abs(coarse - by_units));
}

TEST_SUITE_END();
