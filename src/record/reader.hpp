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

/// Fills in everything but numbers.
std::shared_ptr<const ColumnSource> open_hdf5(const std::string& path, Recording& recording);
Recording read_csv(const std::string& path);

}  // namespace netloop
