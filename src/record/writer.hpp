// SPDX-License-Identifier: Apache-2.0
// Recordings on disk while the run goes on. A file appears under its name only when it is whole or marked incomplete.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "files/output_file.hpp"
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
    Cost cost;
    std::vector<RunPoint> points;
};

/// Where a recording is when it is closed, and what a user should know of it.
struct Filed {
    std::string path;  ///< empty: nowhere, it has no rows
    std::vector<std::string> notes;
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
    virtual Filed finish(bool complete, const std::string& reason) = 0;
};

/// The form follows from the name: .csv and - (standard output) are RFC 4180 text in display units, anything else HDF5. Throws RecordingError if the file
/// cannot be written there, is one of `inputs` or no recording; an existing file is not touched before finish().
std::unique_ptr<RecordingWriter> open_writer(const std::string& path, const RecordingHead& head, const std::vector<std::string>& inputs);

std::unique_ptr<RecordingWriter> open_hdf5_writer(const std::string& path, const RecordingHead& head, const std::vector<std::string>& inputs);
std::unique_ptr<RecordingWriter> open_csv_writer(const std::string& path, const RecordingHead& head, const std::vector<std::string>& inputs);

/// What may be written over by a recording.
OutputRules recording_rules(const std::vector<std::string>& inputs, bool by_name);
/// Gives a closed recording its name, unless that would put one that is broken in the place of one that is whole: then it stays unfinished. `says_so`: the form
/// can tell that it is incomplete. Throws RecordingError.
Filed file_away(OutputFile& file, bool complete, bool says_so);

}  // namespace netloop
