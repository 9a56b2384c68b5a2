// Recordings on disk while the run goes on. A file appears under its name only when it is whole or marked incomplete.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "netloop/recording.hpp"

namespace netloop {

/// What is known of a recording before its first row.
struct RecordingHead {
    std::string system, scenario;
    std::vector<Column> columns;         ///< without values; the first is time
    std::vector<std::size_t> stored_as;  ///< per column: the column whose numbers it shares (itself if none)
    RunOrigin origin;
    std::vector<FigureRequest> figures;
};

/// What is known only at its end.
struct RunResults {
    std::vector<MeasureResult> measures;
    std::vector<DemandResult> demands;
    std::vector<std::string> assumed;
};

class RecordingWriter {
public:
    virtual ~RecordingWriter() = default;
    /// One row, SI values of all columns. Throws RecordingError (a full disk).
    virtual void row(const double* values) = 0;
    /// What happened, told before finish().
    virtual void events(const EventRecord& record) { (void)record; }
    /// What came of it, told before finish().
    virtual void results(const RunResults& results) { (void)results; }
    /// Closes the file and gives it its name. Without any row, nothing is left behind.
    virtual void finish(bool complete, const std::string& reason) = 0;
};

/// The form follows from the name: .csv is RFC 4180 text in display units, anything else HDF5. Throws RecordingError if the
/// file cannot be written there; an existing file is not touched before finish().
std::unique_ptr<RecordingWriter> open_writer(const std::string& path, const RecordingHead& head);

/// A name beside `path` for the unfinished file; throws if nothing can be written there.
std::string unfinished_name(const std::string& path);
void give_name(const std::string& unfinished, const std::string& path);

std::unique_ptr<RecordingWriter> open_hdf5_writer(const std::string& path, const RecordingHead& head);
std::unique_ptr<RecordingWriter> open_csv_writer(const std::string& path, const RecordingHead& head);

}  // namespace netloop
