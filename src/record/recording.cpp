#include "netloop/recording.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <cstdio>
#include <filesystem>
#include <fstream>

#include "base/diagnostics.hpp"
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
    if (fs::path(path).extension() == ".csv") return read_csv(path);
    Recording r;
    r.source_ = open_hdf5(path, r);
    r.columns[0].values = r.source_->read(0);
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

void Recording::save(const std::string& path) const
{
    RecordingHead head{system, scenario, columns, {}, origin, figures};
    for (std::size_t i = 0; i < columns.size(); ++i) {
        head.columns[i].values.clear();
        head.stored_as.push_back(i);
    }
    auto writer = open_writer(path, head);
    std::vector<double> row(columns.size());
    for (std::size_t r = 0; r < n_rows(); ++r) {
        for (std::size_t c = 0; c < columns.size(); ++c) row[c] = columns[c].values[r];
        writer->row(row.data());
    }
    writer->events(events);
    writer->results({measures, demands, assumed});
    writer->finish(complete, reason);
}

std::unique_ptr<RecordingWriter> open_writer(const std::string& path, const RecordingHead& head)
{
    return fs::path(path).extension() == ".csv" ? open_csv_writer(path, head) : open_hdf5_writer(path, head);
}

std::vector<std::string> RunOrigin::stages_of(const std::string& path) const
{
    for (const SequenceEntry& s : sequences)
        if (s.path == path) return s.stages;
    return {};
}

std::string unfinished_name(const std::string& path)
{
    std::error_code error;
    fs::path folder = fs::path(path).parent_path();
    if (!folder.empty() && !fs::is_directory(folder, error))
        throw RecordingError(fmt::format("'{}' cannot be written: there is no folder '{}'", path, folder.string()));
    if (fs::is_directory(path, error)) throw RecordingError(fmt::format("'{}' cannot be written: it is a folder", path));
    if (path.empty() || fs::path(path).filename().empty()) throw RecordingError("the name of the file to write is empty");
    std::string name = path + ".unfinished";
    std::FILE* file = std::fopen(name.c_str(), "wb");
    if (file == nullptr) throw RecordingError(fmt::format("'{}' cannot be written: no permission, or the disk is full", path));
    std::fclose(file);
    fs::remove(name, error);
    return name;
}

void give_name(const std::string& unfinished, const std::string& path)
{
    std::error_code error;
    fs::rename(unfinished, path, error);
    if (error) throw RecordingError(fmt::format("'{}' cannot be replaced: {}; the recording stays in '{}'", path, error.message(), unfinished));
}

}  // namespace netloop
