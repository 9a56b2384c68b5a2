// What a run recorded: columns over time, in memory and on disk.
#pragma once

#include <cstddef>
#include <memory>
#include <stdexcept>
#include <string>
#include <vector>

namespace netloop {

/// One recorded quantity.
///
///     const nl::Column& p = recording["pump.outlet.p"];
///     double worst = p.max();           // SI: Pa
///     double shown = p.in("bar").max(); // in bar
class Column {
public:
    std::string name;  ///< path in the system: "pump.outlet.p"; the first column is "time"
    std::string unit;  ///< display unit as declared: "bar"
    double scale = 1;  ///< SI = display * scale + offset
    double offset = 0;
    std::string description;     ///< `##` text of the declaration
    std::string origin;          ///< "file:line" of the declaration, or empty
    std::vector<double> values;  ///< SI, one per row

    /// The same column with values in another unit. Throws RecordingError if the unit does not fit.
    Column in(const std::string& unit) const;
    double first() const;
    double final() const;
    double max() const;
    double min() const;
    /// Value at time `t` by linear interpolation over `time` (same length); at an event the value after it.
    double at(double t, const Column& time) const;
};

/// A file that cannot be read or written, or a column that is not there.
class RecordingError : public std::runtime_error {
public:
    using std::runtime_error::runtime_error;
};

/// All columns of a run. Rows at one time come in pairs where an event happened: before and after.
class Recording {
public:
    std::string system;
    std::string scenario;
    bool complete = true;  ///< false: the run ended early, see `reason`
    std::string reason;
    std::vector<Column> columns;  ///< the first is time

    const Column& time() const { return columns.at(0); }
    std::size_t n_rows() const { return columns.empty() ? 0 : columns[0].values.size(); }
    /// Throws RecordingError that suggests near names if there is no such column.
    const Column& operator[](const std::string& name) const;
    const Column* find(const std::string& name) const;

    /// Reads a recording; the form follows from the file name (.h5 or .csv). Throws RecordingError.
    static Recording load(const std::string& path);
    /// Writes all columns; the form follows from the file name. An existing file is replaced only when all is written.
    void save(const std::string& path) const;
};

}  // namespace netloop
