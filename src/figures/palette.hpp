// SPDX-License-Identifier: Apache-2.0
// Colours of our own. Any two of a list are at least 20 apart in CIE L*a*b* (1976), as most people see them and without red, green or blue receptors
// (Machado, Oliveira and Fernandes 2009); tests/figures/test_palette.cpp measures it. Where colour is not enough, in grey, dashes and written tags tell things
// apart.
#pragma once

namespace netloop {

/// Of curves, in figures and reports; neighbours differ in lightness, too.
constexpr const char* kColours[] = {"#14508c", "#eb831b", "#70012c", "#11b0a7", "#94675a", "#b580e5", "#464a00", "#7eac5c"};

/// Lengths of dashes, in pixels: one a run, where several are laid over each other.
constexpr int kRunDashes[] = {20, 10, 5, 28};

/// How a joint of a domain is drawn.
struct DomainLine {
    const char *domain, *colour, *style, *tag;  ///< style: graphviz'; the tag is written on the line
    double width;
};
constexpr DomainLine kDomainLines[] = {{"hydraulic", "#0d3f83", "solid", "hydr", 2.4}, {"gas", "#198d9c", "dashed", "gas", 2.4},
                                       {"thermal", "#612a39", "dotted", "heat", 2.4},  {"electrical", "#be8503", "solid", "el", 1.2},
                                       {"rotational", "#80955c", "bold", "rot", 3.2},  {"translational", "#900702", "dashed", "lin", 3.2},
                                       {"planar", "#b275e1", "dashed", "plane", 1.6}};
constexpr DomainLine kOtherLine = {"", "#555555", "solid", "", 1.6};

}  // namespace netloop
