// SPDX-License-Identifier: Apache-2.0
// What a run and the process of an isolated unit say to each other: frames of lists of numbers over one socket, both on one machine.
#pragma once

#include <cstddef>
#include <cstdint>
#include <string>
#include <vector>

namespace netloop {

enum class UnitAsks : std::uint8_t { set_up, start_values, begin, look, column, happen, completed, step };

/// A message: its first byte (what is asked; or 0 for an answer, 1 for a failure, 2 for a unit that cannot be used, 3 for
/// no answer at this point), and what belongs to it.
struct UnitFrame {
    std::uint8_t head = 0;
    std::vector<std::vector<double>> lists;
    std::string text;

    std::string bytes() const;
    /// False: no frame of ours.
    bool read(const std::string& bytes);
};

/// Sends a frame; false: the other end is gone.
bool send_frame(int socket, const UnitFrame& frame);
enum class Received : std::uint8_t { frame, gone, late };
/// Waits for a frame, at most so many seconds (below 0: as long as it takes).
Received receive_frame(int socket, UnitFrame& frame, double seconds);

}  // namespace netloop
