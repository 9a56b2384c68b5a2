// SPDX-License-Identifier: Apache-2.0
// Modes of a run at a point: how it swings and settles by itself, which parts take part, and which params move it.
#pragma once

#include <complex>
#include <cstddef>
#include <optional>
#include <string>
#include <vector>

#include "netloop/linear_model.hpp"

namespace netloop {

/// Of more states than this only ends and regions of the spectrum are worked out, and linear models come as sparse matrices.
inline constexpr std::size_t kMostStatesInTables = 600;

/// Which modes are wanted.
struct ModesRequest {
    /// At most so many, of each end that is asked for; 0: all, which needs at most `kMostStatesInTables` states.
    std::size_t count = 0;
    enum class End { all, fastest, slowest } end = End::all;
    /// The modes nearest to this eigenvalue, rad/s, in the place of an end; with `count` 0 ten of them. (0, 2 pi f) for what swings with the frequency f.
    std::optional<std::complex<double>> near{};
    /// Whether the params that move each mode are worked out.
    bool sensitivities = true;
};

/// One eigenvalue, or a pair of them.
struct Mode {
    Root root;  ///< the one above the real axis, of a pair
    /// Whether it is one.
    bool swings() const { return root.value.imag() != 0; }
    struct State {
        std::string name, part;
        double share = 0;      ///< participation: |left * right|, the states' sum is 1; the same in any units
        double amplitude = 0;  ///< of the shape, by usual sizes: the largest is 1
        double phase = 0;      ///< deg, against the largest
    };
    std::vector<State> states;  ///< all, largest share first
    /// Shares of the states of each part (the instance that states them), largest first. `name` empty: the system itself.
    struct Part {
        std::string name;
        double share = 0;
    };
    std::vector<Part> parts;
    /// What a param does to the eigenvalue, exactly (second derivatives of the equations), with the states held and everything else following.
    struct Param {
        std::string name, unit;
        double value = 0;                   ///< SI
        std::complex<double> slope;         ///< of the eigenvalue by the param, in SI
        double frequency = 0, damping = 0;  ///< what one percent more of it does: percent of |eigenvalue|; damping, absolute
    };
    std::vector<Param> params;  ///< those that move it at all, most first
    /// "left.head_volume 62 %, left.rod 30 %": the first few.
    std::string parts_text(std::size_t most = 3) const;
};

/// All modes of one point, fastest first.
struct Modes {
    double time = 0;           ///< s
    std::size_t n_states = 0;  ///< of the system there
    std::vector<Mode> modes;
    /// As `netloop modes` prints it: a line for each mode with its parts, then the params that move the first `detailed` of them.
    std::string text(std::size_t detailed = 3) const;
    /// All of it as JSON.
    std::string json() const;
};

}  // namespace netloop
