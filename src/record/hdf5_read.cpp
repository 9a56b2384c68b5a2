// SPDX-License-Identifier: Apache-2.0
// Opens a recording: what is in it, and time; the other columns are read when they are asked for.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <unordered_set>

#include "record/about_json.hpp"
#include "record/hdf5.hpp"
#include "record/hdf5_points.hpp"
#include "record/reader.hpp"

namespace netloop {
namespace {

using namespace hdf5;

constexpr hsize_t kMostColumnsRead = 10000000, kMostEvents = 1000000;

std::string text_or_nothing(const char* text)
{
    return text == nullptr ? "" : text;
}

// Rows of a table with texts that belong to the library.
template <typename Row>
class Rows {
public:
    Rows(hid_t set, OwnedId type, std::size_t n) : type_(std::move(type)), space_(H5Dget_space(set), H5Sclose), rows_(n)
    {
        read_ = n == 0 || H5Dread(set, type_, H5S_ALL, H5S_ALL, H5P_DEFAULT, rows_.data()) >= 0;
    }
    ~Rows()
    {
        if (read_ && !rows_.empty()) H5Dvlen_reclaim(type_, space_, H5P_DEFAULT, rows_.data());
    }
    Rows(const Rows&) = delete;
    Rows& operator=(const Rows&) = delete;
    bool read() const { return read_; }
    const std::vector<Row>& all() const { return rows_; }

private:
    OwnedId type_, space_;
    std::vector<Row> rows_;
    bool read_ = false;
};

// A recording of an interrupted writer, or an older one, holds none.
void read_events(hid_t file, EventRecord& record)
{
    if (!has(file, "events") || !has(file, "event_times")) return;
    OwnedId set(H5Dopen2(file, "events", H5P_DEFAULT), H5Dclose), time_set(H5Dopen2(file, "event_times", H5P_DEFAULT), H5Dclose);
    if (!set.ok() || !time_set.ok()) return;
    Contents table = contents_of(set), instants = contents_of(time_set);
    if (!is_table(set, table, {"condition", "part", "place"}, {"first", "count", "steps_lost", "seconds"}, kMostEvents)) return;
    if (instants.rank != 1 || !instants.holds_numbers()) return;
    record.steps = read_number(set, "steps");
    record.seconds = read_number(set, "seconds");
    Rows<EventRow> rows(set, event_type(), table.size[0]);
    std::vector<double> times(instants.size[0]);
    if (!rows.read()) return;
    if (!times.empty() && H5Dread(time_set, H5T_NATIVE_DOUBLE, H5S_ALL, H5S_ALL, H5P_DEFAULT, times.data()) < 0) return;
    auto n = static_cast<std::int64_t>(times.size());
    for (const EventRow& row : rows.all()) {
        EventEntry e{text_or_nothing(row.text), text_or_nothing(row.part), text_or_nothing(row.place), {}, row.steps_lost, row.seconds};
        if (row.first >= 0 && row.count >= 0 && row.first <= n && row.count <= n - row.first)
            e.times.assign(times.begin() + row.first, times.begin() + row.first + row.count);
        if (!e.times.empty()) record.kinds.push_back(std::move(e));
    }
}

class Hdf5Source : public ColumnSource {
public:
    Hdf5Source(std::string path, OwnedId file) : path_(std::move(path)), file_(std::move(file)), values_(H5Dopen2(file_, "values", H5P_DEFAULT), H5Dclose)
    {
        if (!values_.ok()) throw refuse("a part of it is missing");
        Contents c = contents_of(values_);
        if (!c.numbers() || c.rank != 2) throw refuse("its values are no table");
        if (!c.holds_numbers()) throw refuse("it says that it has more rows than are stored in it");
        std::copy_n(c.size, 2, size_);
        rows_ = size_[0];
        read_tail();
    }

    RecordingError refuse(const std::string& why) const { return RecordingError(fmt::format("'{}' is no recording: {}", path_, why)); }
    hid_t file() const { return file_; }
    hsize_t width() const { return size_[1]; }
    std::vector<std::size_t> index;  ///< of each column: its place in the table

    std::vector<double> read(std::size_t column) const override
    {
        std::vector<double> all(rows_);
        hsize_t at[2] = {0, index.at(column)}, count[2] = {size_[0], 1};
        OwnedId space(H5Dget_space(values_), H5Sclose), memory(H5Screate_simple(1, count, nullptr), H5Sclose);
        H5Sselect_hyperslab(space, H5S_SELECT_SET, at, nullptr, count, nullptr);
        if (size_[0] > 0 && H5Dread(values_, H5T_NATIVE_DOUBLE, memory, space, H5P_DEFAULT, all.data()) < 0) throw refuse("its values cannot be read");
        for (std::size_t r = 0; r < tail_.size() / std::max<std::size_t>(size_[1], 1); ++r) all[tail_first_ + r] = tail_[r * size_[1] + index[column]];
        return all;
    }

private:
    // Of a run that was killed: the last rows, which may be in the table too.
    void read_tail()
    {
        if (!has(file_, "tail") || !has(file_, "tail_rows")) return;
        OwnedId set(H5Dopen2(file_, "tail", H5P_DEFAULT), H5Dclose), rows_set(H5Dopen2(file_, "tail_rows", H5P_DEFAULT), H5Dclose);
        if (!set.ok() || !rows_set.ok()) return;
        std::int64_t state[2] = {0, 0};
        Contents of_rows = contents_of(rows_set), c = contents_of(set);
        if (!of_rows.numbers() || of_rows.rank != 1 || of_rows.size[0] != 2) return;
        if (H5Dread(rows_set, H5T_NATIVE_INT64, H5S_ALL, H5S_ALL, H5P_DEFAULT, state) < 0) return;
        if (!c.numbers() || c.rank != 2) return;
        constexpr hsize_t kMostRows = 1 << 20;  // of a tail: it is shorter than a chunk of rows
        hsize_t size[2] = {std::min(c.size[0], kMostRows), c.size[1]}, at[2] = {0, 0};
        OwnedId space(H5Dget_space(set), H5Sclose);
        bool fits = state[1] > 0 && state[1] <= static_cast<std::int64_t>(size[0]) && size[1] == size_[1] && state[0] >= 0 &&
                    state[0] <= static_cast<std::int64_t>(size_[0]);
        if (!fits) return;
        hsize_t count[2] = {static_cast<hsize_t>(state[1]), size[1]};
        std::vector<double> tail(count[0] * count[1]);
        OwnedId memory(H5Screate_simple(2, count, nullptr), H5Sclose);
        H5Sselect_hyperslab(space, H5S_SELECT_SET, at, nullptr, count, nullptr);
        if (H5Dread(set, H5T_NATIVE_DOUBLE, memory, space, H5P_DEFAULT, tail.data()) < 0) return;
        tail_ = std::move(tail);
        tail_first_ = static_cast<std::size_t>(state[0]);
        rows_ = std::max(rows_, tail_first_ + static_cast<std::size_t>(state[1]));
    }

    std::string path_;
    OwnedId file_, values_;
    hsize_t size_[2] = {0, 0};
    std::size_t rows_ = 0;
    std::vector<double> tail_;
    std::size_t tail_first_ = 0;
};

void read_columns(const Hdf5Source& source, std::vector<std::size_t>& index, Recording& r)
{
    OwnedId set(H5Dopen2(source.file(), "columns", H5P_DEFAULT), H5Dclose);
    if (!set.ok()) throw source.refuse("a part of it is missing");
    Contents c = contents_of(set);
    if (!is_table(set, c, {"name", "unit", "description", "origin"}, {"scale", "offset", "index"}, kMostColumnsRead))
        throw source.refuse("its columns are no table of names, units and places");
    Rows<ColumnRow> rows(set, column_type(), c.size[0]);
    if (!rows.read()) throw source.refuse("its columns cannot be read");
    std::unordered_set<std::string> names;
    for (const ColumnRow& row : rows.all()) {
        Column column;
        column.name = text_or_nothing(row.name);
        column.unit = text_or_nothing(row.unit);
        column.scale = row.scale;
        column.offset = row.offset;
        column.description = text_or_nothing(row.description);
        column.origin = text_or_nothing(row.origin);
        auto control = [](const std::string& text) { return std::any_of(text.begin(), text.end(), [](unsigned char ch) { return ch < 0x20 || ch == 0x7f; }); };
        if (column.name.empty() || control(column.name) || control(column.unit)) throw source.refuse("a column has no name that could be shown");
        if (!names.insert(column.name).second) throw source.refuse(fmt::format("two columns are called '{}'", column.name));
        if (!(column.scale > 0) || !std::isfinite(column.scale) || !std::isfinite(column.offset))
            throw source.refuse(fmt::format("the scale of '{}' is {:g}, its offset {:g}", column.name, column.scale, column.offset));
        if (row.index < 0 || static_cast<hsize_t>(row.index) >= source.width()) throw source.refuse("a column points outside its values");
        index.push_back(static_cast<std::size_t>(row.index));
        r.columns.push_back(std::move(column));
    }
    if (r.columns.empty() || r.columns[0].name != "time") throw source.refuse("its first column is not the time");
}

}  // namespace

std::shared_ptr<const ColumnSource> open_hdf5(const std::string& path, Recording& r)
{
    quiet();
    OwnedId file(H5Fopen(path.c_str(), H5F_ACC_RDONLY, H5P_DEFAULT), H5Fclose);
    // of a run that was killed, or that still goes on
    if (!file.ok()) {
        // what a writer has half written is read again, each time after twice the wait, from 1 ns on; of 100 times, which is the library's own choice, a
        // damaged file would see no end
        constexpr unsigned kTries = 28;  // the last wait is 0.13 s
        OwnedId access(H5Pcreate(H5P_FILE_ACCESS), H5Pclose);
        H5Pset_metadata_read_attempts(access, kTries);
        file = OwnedId(H5Fopen(path.c_str(), H5F_ACC_RDONLY | H5F_ACC_SWMR_READ, access), H5Fclose);
    }
    if (!file.ok()) throw RecordingError(fmt::format("'{}' is no recording: not an HDF5 file, or one that is damaged", path));
    if (read_attribute(file, "form") != kForm) throw RecordingError(fmt::format("'{}' is no recording: it was not written by a run of netloop", path));
    r.system = read_attribute(file, "system");
    r.scenario = read_attribute(file, "scenario");
    r.complete = read_attribute(file, "complete") == "yes";
    r.reason = read_attribute(file, "reason");
    if (!r.complete && r.reason.empty()) r.reason = "the run did not end";
    auto source = std::make_shared<Hdf5Source>(path, std::move(file));
    read_columns(*source, source->index, r);
    read_events(source->file(), r.events);
    read_about(read_text(source->file(), "about"), r);
    read_results(read_text(source->file(), "results"), r);
    r.points = read_points(source->file());
    return source;
}

}  // namespace netloop
