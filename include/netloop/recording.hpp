// SPDX-License-Identifier: Apache-2.0
// What a run recorded: columns over time, in memory and on disk.
#pragma once

#include <cstddef>
#include <cstdint>
#include <memory>
#include <stdexcept>
#include <string>
#include <vector>

#include "netloop/cost.hpp"
#include "netloop/error.hpp"

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
    /// Of all rows, SI. Throws RecordingError if there are none.
    double first() const;
    double final() const;
    double max() const;
    double min() const;
    /// Value at time `t` by linear interpolation over `time` (same length); at an event the value after it.
    double at(double t, const Column& time) const;
};

/// One kind of event of a run: a condition of the equations that turned, or what was done: a transition taken, a `when` or `every` block run.
struct EventEntry {
    std::string text;           ///< "tank.level > 2.4", "every 10 ms", "duty is filling -> resting when level > high"
    std::string part;           ///< path of the part that holds it; empty: the system
    std::string place;          ///< "file:line"
    std::vector<double> times;  ///< s; of a condition each time it turned, either way
    double steps_lost = 0;      ///< steps made behind it that were less than half as long as before
    double seconds = 0;         ///< of computing: locating it, settling it, those steps
};

/// What a run says of its events as a whole.
struct EventRecord {
    std::vector<EventEntry> kinds;  ///< most frequent first
    double steps = 0;               ///< of the run
    double seconds = 0;             ///< of computing, of the run

    /// As text: a line for each of at most `most` kinds with count, share of steps and time lost to it, first and last time, where, what.
    std::string text(std::size_t most = 1000) const;
};

/// A number that a scenario puts on a whole run: `measure peak = max(pump.outlet.p)`.
struct MeasureResult {
    std::string name;  ///< "peak"
    std::string text;  ///< its expression as written
    std::string doc;   ///< its `##` text
    double value = 0;  ///< SI; NaN where it has none (what was waited for never happened)
    std::string unit;  ///< display unit: "bar"; "bool" for a condition
    double scale = 1;  ///< SI = display * scale + offset
    double offset = 0;
    /// In the display unit.
    double shown() const { return (value - offset) / scale; }
    /// "peak = 183.2 bar".
    std::string line() const;
};

/// What a scenario demands: `require peak < 210 bar "the relief valve opens in time"`.
struct DemandResult {
    std::string condition;  ///< as written
    std::string text;       ///< what the user says of it
    std::string place;      ///< "file:line:column"
    bool holds = false;
    std::string found;  ///< what was found, of a comparison: "183.2 bar against 210 bar"
    /// "peak < 210 bar: 223 bar against 210 bar (the relief valve opens in time)  bridge.loop:72".
    std::string line() const;
};

/// A figure that a scenario asks for: one panel a line, as written, paths with units.
struct FigureRequest {
    struct Curve {
        std::string path, unit;  ///< unit: empty for the declared one
    };
    struct Panel {
        std::vector<Curve> curves;
        Curve against;  ///< empty: time
    };
    std::string title;
    std::vector<Panel> panels;
};

/// A param as it was in a run.
struct ParameterValue {
    std::string path;
    double value = 0;  ///< SI
    std::string unit;  ///< display unit; SI = display * scale + offset
    double scale = 1;
    double offset = 0;
    bool changed = false;  ///< the scenario, the command line or a program gave it
    std::string doc;
    /// In the display unit.
    double shown() const { return (value - offset) / scale; }
};
struct ModelText {
    std::string file, text;
};

/// A part of a system, or the system itself (path empty).
struct PartEntry {
    std::string path, kind;             ///< "tank", "hydraulics.OpenTank"
    std::vector<std::string> pictures;  ///< how it is drawn: "bar a b", see docs/extending.md
};

/// A sequence and its stages: its column holds the number of the present one, from 1.
struct SequenceEntry {
    std::string path;
    std::vector<std::string> stages;
};

/// Where the numbers of a recording come from.
struct RunOrigin {
    std::string version;    ///< of the program
    std::string text_hash;  ///< of `texts`: 16 hexadecimal digits (Fowler, Noll, Vo: FNV-1a, 64 bit)
    std::string doc;        ///< `##` text of the scenario
    double tolerance = 0;   ///< relative
    std::vector<ParameterValue> parameters;
    std::vector<ModelText> texts;  ///< the user's own files, as they were, the one that was run first; names beside that one
    /// What was set from outside for this run, as text: {"relief.cracking", "160 bar"}. No part of the model, its texts or their hash.
    std::vector<std::pair<std::string, std::string>> settings;
    std::vector<PartEntry> parts;  ///< each after what holds it
    std::vector<SequenceEntry> sequences;

    /// The stages of the sequence of this path; empty if it is none.
    std::vector<std::string> stages_of(const std::string& path) const;
};

/// Whether a path fits a pattern, in which '*' stands for anything, dots included: "pump.*".
bool fits_pattern(const std::string& pattern, const std::string& text);

/// A run at one moment, whole: a run of the same system can go on from there, or be looked at. Numbers are SI, and have names: "leaf.angle" and "leaf.angle'"
/// are what the equations solve for, with their rates; "mode 3", "memory 2", "clock 0 next" and the like what events have left behind.
struct RunPoint {
    /// What the numbers are; one for all points of a run at which the same equations held.
    struct Layout {
        std::vector<std::string> names;
        std::vector<std::uint32_t> index;  ///< per name: which number; several quantities may be one
        std::vector<double> sign;          ///< per name: 1, or -1 where it is the number with the other sign
        /// How many numbers a point of it has.
        std::size_t n_values() const;
    };
    double time = 0;  ///< s
    std::shared_ptr<const Layout> layout{};
    std::vector<double> values{};  ///< in the order of the layout
    std::vector<double> past{};    ///< of delays: what they will give yet
};

class ColumnSource;

/// All columns of a run. Rows at one time come in pairs where an event happened: before and after.
class Recording {
public:
    std::string system;
    std::string scenario;
    bool complete = true;  ///< false: the run ended early, see `reason`
    std::string reason;
    std::vector<Column> columns;          ///< the first is time
    EventRecord events;                   ///< empty in a file that does not hold them (.csv)
    std::vector<MeasureResult> measures;  ///< this and what follows: empty in a .csv
    std::vector<DemandResult> demands;
    Cost cost;                         ///< what its steps were limited by
    std::vector<std::string> assumed;  ///< at the start: guesses that completed it, and what was held where it stood
    std::vector<FigureRequest> figures;
    RunOrigin origin;
    std::vector<RunPoint> points;  ///< if any were asked for, ascending

    /// Throws RecordingError if nothing was recorded.
    const Column& time() const;
    /// 0 if nothing was recorded.
    std::size_t n_rows() const { return columns.empty() ? 0 : columns[0].values.size(); }
    /// Throws RecordingError that suggests near names if there is no such column.
    const Column& operator[](const std::string& name) const;
    /// Null if there is no such column.
    const Column* find(const std::string& name) const;

    /// Reads a recording, HDF5 or text (.csv), whatever its name. The file may come from anywhere: types, ranks and sizes are looked at before anything is read
    /// (a damaged HDF5 file can bring down libhdf5 itself: the command line looks at it in a process of its own first). Throws RecordingError.
    static Recording load(const std::string& path);
    /// The same without the numbers of any column but time; fetch() reads those that are wanted. A .csv is read as a whole.
    static Recording open(const std::string& path);
    /// Reads the numbers of an opened recording's columns that fit one of `names`, paths or patterns; those that are there already stay. A name that fits
    /// nothing is left for operator[] to tell. Throws RecordingError if the file cannot be read.
    void fetch(const std::vector<std::string>& names);
    /// Writes all columns; the form follows from the file name. An existing recording is replaced when all is on the disk, and by one that is incomplete only
    /// if it is incomplete, too (else this one stays beside it as NAME.unfinished); a file that is no recording, or one of `inputs`, is refused. Gives what a
    /// user should know of it, such as the name that it has instead. Throws RecordingError.
    std::vector<std::string> save(const std::string& path, const std::vector<std::string>& inputs = {}) const;

private:
    std::shared_ptr<const ColumnSource> source_;  ///< of an opened one
};

}  // namespace netloop
