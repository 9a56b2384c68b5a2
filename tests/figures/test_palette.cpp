// SPDX-License-Identifier: Apache-2.0
// Colours are told apart: measured by published models of vision, not by taste.
#include "figures/palette.hpp"

#include <doctest/doctest.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <string>
#include <vector>

using namespace netloop;

namespace {

using Triple = std::array<double, 3>;

// IEC 61966-2-1: the linear light of an sRGB colour "#rrggbb".
Triple light_of(const std::string& colour)
{
    Triple light;
    for (std::size_t k = 0; k < 3; ++k) {
        double c = std::stoi(colour.substr(1 + 2 * k, 2), nullptr, 16) / 255.0;
        light[k] = c <= 0.04045 ? c / 12.92 : std::pow((c + 0.055) / 1.055, 2.4);
    }
    return light;
}

// Machado, Oliveira and Fernandes (2009), A physiologically-based model for simulation of color vision deficiency, severity 1.0.
struct Eyes {
    const char* name;
    std::array<Triple, 3> matrix;
};
const Eyes kEyes[] = {{"all receptors", {{{1, 0, 0}, {0, 1, 0}, {0, 0, 1}}}},
                      {"no red", {{{0.152286, 1.052583, -0.204868}, {0.114503, 0.786281, 0.099216}, {-0.003882, -0.048116, 1.051998}}}},
                      {"no green", {{{0.367322, 0.860646, -0.227968}, {0.280085, 0.672501, 0.047413}, {-0.011820, 0.042940, 0.968881}}}},
                      {"no blue", {{{1.255528, -0.076749, -0.178779}, {-0.078411, 0.930809, 0.147602}, {0.004733, 0.691367, 0.303900}}}}};

Triple seen(const Triple& light, const Eyes& eyes)
{
    Triple out{};
    for (std::size_t i = 0; i < 3; ++i) {
        for (std::size_t k = 0; k < 3; ++k) out[i] += eyes.matrix[i][k] * light[k];
        out[i] = std::clamp(out[i], 0.0, 1.0);
    }
    return out;
}

double luminance(const Triple& light)
{
    return 0.2126729 * light[0] + 0.7151522 * light[1] + 0.0721750 * light[2];
}

// CIE 1976 L*a*b*, white D65.
Triple lab(const Triple& light)
{
    auto f = [](double t) { return t > 216.0 / 24389 ? std::cbrt(t) : (24389.0 / 27 * t + 16) / 116; };
    double x = (0.4124564 * light[0] + 0.3575761 * light[1] + 0.1804375 * light[2]) / 0.95047, y = luminance(light),
           z = (0.0193339 * light[0] + 0.1191920 * light[1] + 0.9503041 * light[2]) / 1.08883;
    return {116 * f(y) - 16, 500 * (f(x) - f(y)), 200 * (f(y) - f(z))};
}

double distance(const Triple& a, const Triple& b)
{
    return std::hypot(a[0] - b[0], a[1] - b[1], a[2] - b[2]);
}

void check_apart(const std::vector<std::string>& colours)
{
    const Triple white{1, 1, 1};
    for (const Eyes& eyes : kEyes)
        for (std::size_t i = 0; i < colours.size(); ++i) {
            Triple one = seen(light_of(colours[i]), eyes);
            INFO(eyes.name, ": ", colours[i]);
            CHECK((luminance(white) + 0.05) / (luminance(one) + 0.05) > 2.2);  // against paper; WCAG 2.1 asks 3 of the finest lines, these are wider
            for (std::size_t k = 0; k < i; ++k) {
                INFO("beside ", colours[k]);
                CHECK(distance(lab(one), lab(seen(light_of(colours[k]), eyes))) > 20);
            }
        }
}

}  // namespace

TEST_SUITE_BEGIN("figures");

TEST_CASE("the measure of colours gives published values")
{
    // Lindbloom's calculator: sRGB red, and a grey
    Triple red = lab(light_of("#ff0000"));
    CHECK(red[0] == doctest::Approx(53.24).epsilon(1e-3));
    CHECK(red[1] == doctest::Approx(80.09).epsilon(1e-3));
    CHECK(red[2] == doctest::Approx(67.20).epsilon(1e-3));
    CHECK(lab(light_of("#777777"))[0] == doctest::Approx(50.03).epsilon(1e-3));
    CHECK(distance(lab(light_of("#ffffff")), {100, 0, 0}) < 0.02);
    // red and green of one lightness are one colour without green receptors
    CHECK(distance(lab(seen(light_of("#c04000"), kEyes[2])), lab(seen(light_of("#807000"), kEyes[2]))) < 20);
}

TEST_CASE("curves and domains are told apart by all eyes, and stand out from paper")
{
    check_apart({std::begin(kColours), std::end(kColours)});
    std::vector<std::string> domains;
    for (const DomainLine& l : kDomainLines) domains.emplace_back(l.colour);
    check_apart(domains);
}

TEST_CASE("in grey, neighbours among the curves differ in lightness, and domains in line or tag")
{
    for (std::size_t k = 1; k < std::size(kColours); ++k) {
        INFO(kColours[k]);
        CHECK(std::abs(lab(light_of(kColours[k]))[0] - lab(light_of(kColours[k - 1]))[0]) > 10);
    }
    for (std::size_t i = 0; i < std::size(kDomainLines); ++i)
        for (std::size_t k = 0; k < i; ++k) CHECK(std::string(kDomainLines[i].tag) != kDomainLines[k].tag);
}

TEST_SUITE_END();
