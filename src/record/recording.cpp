// SPDX-License-Identifier: Apache-2.0
#include "netloop/recording.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <filesystem>

#include "base/diagnostics.hpp"
#include "files/input_file.hpp"
#include "record/hdf5.hpp"
#include "record/reader.hpp"
#include "record/writer.hpp"
#include "units/unit.hpp"

namespace netloop {
namespace fs = std::filesystem;

bool fits_pattern(const std::string& pattern, const std::string& text)
{
    std::size_t p = 0, t = 0, star = std::string::npos, mark = 0;
    while (t < text.size()) {
        if (p < pattern.size() && pattern[p] == '*') {
            star = p++;
            mark = t;
        } else if (p < pattern.size() && pattern[p] == text[t]) {
            ++p;
            ++t;
        } else if (star != std::string::npos) {
            p = star + 1;
            t = ++mark;
        } else {
            return false;
        }
    }
    while (p < pattern.size() && pattern[p] == '*') ++p;
    return p == pattern.size();
}

Column Column::in(const std::string& wanted) const
{
    Unit from, to;
    UnitProblem problem;
    if (!parse_unit(wanted, to, problem)) throw RecordingError(fmt::format("{}{}", problem.text, problem.hint.empty() ? "" : ": " + problem.hint));
    bool known = parse_unit(unit, from, problem);
    if (!known || !(from.dimension == to.dimension))
        throw RecordingError(fmt::format("'{}' is recorded in [{}], which cannot be shown in [{}]", name, unit, wanted));
    Column c = *this;
    c.unit = wanted;
    c.scale = 1;
    c.offset = 0;
    for (double& v : c.values) v = to.from_si(v);
    return c;
}

namespace {
void need_rows(const Column& c)
{
    if (c.values.empty()) throw RecordingError(fmt::format("'{}' has no rows", c.name));
}
}  // namespace

double Column::first() const
{
    need_rows(*this);
    return values.front();
}
double Column::final() const
{
    need_rows(*this);
    return values.back();
}
double Column::max() const
{
    need_rows(*this);
    return *std::max_element(values.begin(), values.end());
}
double Column::min() const
{
    need_rows(*this);
    return *std::min_element(values.begin(), values.end());
}

double Column::at(double t, const Column& time) const
{
    need_rows(*this);
    const auto& ts = time.values;
    auto above = std::upper_bound(ts.begin(), ts.end(), t);
    if (above == ts.begin()) return values.front();
    auto i = static_cast<std::size_t>(above - ts.begin());
    if (i == ts.size()) return values.back();
    double part = (t - ts[i - 1]) / (ts[i] - ts[i - 1]);
    return values[i - 1] + part * (values[i] - values[i - 1]);
}

const Column& Recording::time() const
{
    if (columns.empty()) throw RecordingError("there is no time in a recording of nothing");
    return columns[0];
}

const Column* Recording::find(const std::string& name) const
{
    for (const Column& c : columns)
        if (c.name == name) return &c;
    return nullptr;
}

const Column& Recording::operator[](const std::string& name) const
{
    if (const Column* c = find(name)) return *c;
    std::vector<std::string> names;
    for (const Column& c : columns) names.push_back(c.name);
    std::string near = nearest_name(name, names);
    throw RecordingError(fmt::format("the recording has no quantity '{}'{}", name, near.empty() ? "" : fmt::format("; did you mean '{}'?", near)));
}

Recording Recording::open(const std::string& path)
{
    std::error_code error;
    if (!fs::exists(path, error)) throw RecordingError(fmt::format("recording '{}' does not exist (looked for {})", path, fs::absolute(path, error).string()));
    if (fs::is_directory(path, error)) throw RecordingError(fmt::format("'{}' is no recording: it is a folder", path));
    if (!begins_like_hdf5(path)) return read_csv(path);
    Recording r;
    r.source_ = open_hdf5(path, r);
    std::vector<double>& t = r.columns[0].values = r.source_->read(0);
    for (std::size_t i = 0; i < t.size(); ++i) {
        if (!std::isfinite(t[i])) throw RecordingError(fmt::format("'{}' is no recording: row {} has no time", path, i + 1));
        if (i > 0 && t[i] < t[i - 1]) throw RecordingError(fmt::format("'{}' is no recording: the time goes back from {:g} s to {:g} s", path, t[i - 1], t[i]));
    }
    return r;
}

void Recording::fetch(const std::vector<std::string>& names)
{
    if (source_ == nullptr) return;
    for (std::size_t i = 0; i < columns.size(); ++i) {
        if (!columns[i].values.empty()) continue;
        bool wanted = std::any_of(names.begin(), names.end(), [&](const std::string& n) { return fits_pattern(n, columns[i].name); });
        if (wanted) columns[i].values = source_->read(i);
    }
}

Recording Recording::load(const std::string& path)
{
    Recording r = open(path);
    r.fetch({"*"});
    r.source_.reset();
    return r;
}

std::size_t RunPoint::Layout::n_values() const
{
    std::size_t n = 0;
    for (std::uint32_t i : index) n = std::max<std::size_t>(n, std::size_t{i} + 1);
    return n;
}

std::vector<std::string> Recording::save(const std::string& path, const std::vector<std::string>& inputs) const
{
    RecordingHead head{system, scenario, columns, {}, origin, figures};
    for (std::size_t i = 0; i < columns.size(); ++i) {
        head.columns[i].values.clear();
        head.stored_as.push_back(i);
    }
    auto writer = open_writer(path, head, inputs);
    std::vector<double> row(columns.size());
    for (std::size_t r = 0; r < n_rows(); ++r) {
        for (std::size_t c = 0; c < columns.size(); ++c) row[c] = columns[c].values[r];
        writer->row(row.data());
    }
    writer->events(events);
    writer->results({measures, demands, assumed, cost, points});
    return writer->finish(complete, reason).notes;
}

std::unique_ptr<RecordingWriter> open_writer(const std::string& path, const RecordingHead& head, const std::vector<std::string>& inputs)
{
    bool rows = path == "-" || fs::path(path).extension() == ".csv";
    return rows ? open_csv_writer(path, head, inputs) : open_hdf5_writer(path, head, inputs);
}

std::vector<std::string> RunOrigin::stages_of(const std::string& path) const
{
    for (const SequenceEntry& s : sequences)
        if (s.path == path) return s.stages;
    return {};
}

bool begins_like_hdf5(const std::string& path)
{
    return first_bytes(path, 8) == "\x89HDF\r\n\x1a\n";
}

bool is_unfinished_name(const std::string& path)
{
    std::string name = fs::path(path).filename().string();
    std::size_t at = name.rfind(".unfinished");
    if (at == std::string::npos) return false;
    std::string rest = name.substr(at + std::string_view(".unfinished").size());
    return rest.empty() || (rest.size() > 1 && rest[0] == '-' && std::all_of(rest.begin() + 1, rest.end(), [](char c) { return c >= '0' && c <= '9'; }));
}

bool is_recording(const std::string& path)
{
    constexpr std::size_t kMarkWithin = kMiB;  // of an HDF5 file: the mark is the first that is written
    if (begins_like_hdf5(path)) return first_bytes(path, kMarkWithin).find(hdf5::kForm) != std::string::npos;
    std::string head = first_bytes(path, 16);
    if (head.starts_with("\xef\xbb\xbf")) head.erase(0, 3);
    return head.starts_with("time [") || head.starts_with("\"time [");
}

bool is_complete_recording(const std::string& path)
{
    if (!is_recording(path)) return false;
    if (!begins_like_hdf5(path)) return !is_unfinished_name(path);
    try {
        Recording r;
        (void)open_hdf5(path, r);
        return r.complete;
    } catch (const RecordingError&) {
        return false;
    }
}

OutputRules recording_rules(const std::vector<std::string>& inputs, bool by_name)
{
    return {.what = "a recording", .replaces = is_recording, .inputs = inputs, .by_name = by_name};
}

Filed file_away(OutputFile& file, bool complete, bool says_so)
{
    Filed filed;
    for (const std::string& left : file.leftovers())
        filed.notes.push_back(fmt::format("'{}' is of an earlier run that did not end; it can be read like any recording", left));
    bool whole = !complete && !file.written_through() && is_complete_recording(file.path());
    if (!complete && !file.written_through() && (whole || !says_so)) {
        file.keep();
        filed.path = file.unfinished();
        filed.notes.push_back(whole ? fmt::format("the run did not come to its end, so '{}' stays as it was: a recording of one that did; the rows of this one "
                                                  "are in '{}'",
                                                  file.path(), filed.path)
                                    : fmt::format("the run did not come to its end, which a file of rows cannot say: they are in '{}'", filed.path));
        return filed;
    }
    if (file.written_meanwhile())
        filed.notes.push_back(fmt::format("'{}' was written by another program while this run went on; this run replaces it", file.path()));
    file.publish();
    filed.path = file.path();
    return filed;
}

}  // namespace netloop
