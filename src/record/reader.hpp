// SPDX-License-Identifier: Apache-2.0
// Recordings from disk.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "netloop/recording.hpp"

namespace netloop {

/// Where the numbers of an opened recording come from.
class ColumnSource {
public:
    virtual ~ColumnSource() = default;
    /// All rows of a column, SI. Throws RecordingError.
    virtual std::vector<double> read(std::size_t column) const = 0;
};

/// Whether the first bytes of a file are those of a recording: HDF5 with our mark in it, or text that begins with a column of time.
bool is_recording(const std::string& path);
/// Whether it is one of a run that came to its end; of text that can only be known by its name.
bool is_complete_recording(const std::string& path);
/// Whether a name is that of a file whose writer has not ended, or never did: NAME.unfinished, NAME.unfinished-2.
bool is_unfinished_name(const std::string& path);
bool begins_like_hdf5(const std::string& path);

/// Fills in everything but numbers. Every type, rank and size in the file is looked at before it is read: the file is foreign.
std::shared_ptr<const ColumnSource> open_hdf5(const std::string& path, Recording& recording);
Recording read_csv(const std::string& path);

}  // namespace netloop
