// Opens a recording: what is in it, and time; the other columns are read when they are asked for.
#include <fmt/format.h>

#include <algorithm>

#include "record/about_json.hpp"
#include "record/hdf5.hpp"
#include "record/reader.hpp"

namespace netloop {
namespace {

using namespace hdf5;

// A recording of an interrupted writer, or an older one, holds none.
void read_events(hid_t file, EventRecord& record)
{
    if (!has(file, "events") || !has(file, "event_times")) return;
    Handle set(H5Dopen2(file, "events", H5P_DEFAULT), H5Dclose), time_set(H5Dopen2(file, "event_times", H5P_DEFAULT), H5Dclose);
    if (!set.ok() || !time_set.ok()) return;
    Handle space(H5Dget_space(set), H5Sclose), time_space(H5Dget_space(time_set), H5Sclose), type = event_type();
    auto n = static_cast<std::size_t>(H5Sget_simple_extent_npoints(space)), n_times = static_cast<std::size_t>(H5Sget_simple_extent_npoints(time_space));
    record.steps = read_number(set, "steps");
    record.seconds = read_number(set, "seconds");
    std::vector<EventRow> rows(n);
    std::vector<double> times(n_times);
    if (n == 0 || H5Dread(set, type, H5S_ALL, H5S_ALL, H5P_DEFAULT, rows.data()) < 0) return;
    if (n_times > 0 && H5Dread(time_set, H5T_NATIVE_DOUBLE, H5S_ALL, H5S_ALL, H5P_DEFAULT, times.data()) < 0) times.clear();
    for (const EventRow& row : rows) {
        EventEntry e{row.text, row.part, row.place, {}, row.steps_lost, row.seconds};
        if (row.first >= 0 && row.count >= 0 && row.first + row.count <= static_cast<std::int64_t>(times.size()))
            e.times.assign(times.begin() + row.first, times.begin() + row.first + row.count);
        if (!e.times.empty()) record.kinds.push_back(std::move(e));
    }
    H5Dvlen_reclaim(type, space, H5P_DEFAULT, rows.data());
}

class Hdf5Source : public ColumnSource {
public:
    Hdf5Source(std::string path, Handle file) : path_(std::move(path)), file_(std::move(file)), values_(H5Dopen2(file_, "values", H5P_DEFAULT), H5Dclose)
    {
        if (!values_.ok()) throw refuse("a part of it is missing");
        Handle space(H5Dget_space(values_), H5Sclose);
        if (H5Sget_simple_extent_ndims(space) != 2) throw refuse("its values are no table");
        H5Sget_simple_extent_dims(space, size_, nullptr);
        rows_ = size_[0];
        read_tail();
    }

    RecordingError refuse(const char* why) const { return RecordingError(fmt::format("'{}' is no recording: {}", path_, why)); }
    hid_t file() const { return file_; }
    hsize_t width() const { return size_[1]; }
    std::vector<std::size_t> index;  ///< of each column: its place in the table

    std::vector<double> read(std::size_t column) const override
    {
        std::vector<double> all(rows_);
        hsize_t at[2] = {0, index.at(column)}, count[2] = {size_[0], 1};
        Handle space(H5Dget_space(values_), H5Sclose), memory(H5Screate_simple(1, count, nullptr), H5Sclose);
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
        Handle set(H5Dopen2(file_, "tail", H5P_DEFAULT), H5Dclose), rows_set(H5Dopen2(file_, "tail_rows", H5P_DEFAULT), H5Dclose);
        std::int64_t state[2] = {0, 0};
        if (!set.ok() || !rows_set.ok() || H5Dread(rows_set, H5T_NATIVE_INT64, H5S_ALL, H5S_ALL, H5P_DEFAULT, state) < 0) return;
        Handle space(H5Dget_space(set), H5Sclose);
        hsize_t size[2] = {0, 0}, at[2] = {0, 0};
        if (H5Sget_simple_extent_ndims(space) != 2) return;
        H5Sget_simple_extent_dims(space, size, nullptr);
        bool fits = state[1] > 0 && state[1] <= static_cast<std::int64_t>(size[0]) && size[1] == size_[1] && state[0] >= 0 &&
                    state[0] <= static_cast<std::int64_t>(size_[0]);
        if (!fits) return;
        hsize_t count[2] = {static_cast<hsize_t>(state[1]), size[1]};
        std::vector<double> tail(count[0] * count[1]);
        Handle memory(H5Screate_simple(2, count, nullptr), H5Sclose);
        H5Sselect_hyperslab(space, H5S_SELECT_SET, at, nullptr, count, nullptr);
        if (H5Dread(set, H5T_NATIVE_DOUBLE, memory, space, H5P_DEFAULT, tail.data()) < 0) return;
        tail_ = std::move(tail);
        tail_first_ = static_cast<std::size_t>(state[0]);
        rows_ = std::max(rows_, tail_first_ + static_cast<std::size_t>(state[1]));
    }

    std::string path_;
    Handle file_, values_;
    hsize_t size_[2] = {0, 0};
    std::size_t rows_ = 0;
    std::vector<double> tail_;
    std::size_t tail_first_ = 0;
};

}  // namespace

std::shared_ptr<const ColumnSource> open_hdf5(const std::string& path, Recording& r)
{
    quiet();
    Handle file(H5Fopen(path.c_str(), H5F_ACC_RDONLY, H5P_DEFAULT), H5Fclose);
    // of a run that was killed, or that still goes on
    if (!file.ok()) file = Handle(H5Fopen(path.c_str(), H5F_ACC_RDONLY | H5F_ACC_SWMR_READ, H5P_DEFAULT), H5Fclose);
    if (!file.ok()) throw RecordingError(fmt::format("'{}' is no recording: not an HDF5 file, or one that is damaged", path));
    if (read_attribute(file, "form") != kForm) throw RecordingError(fmt::format("'{}' is no recording: it was not written by a run of netloop", path));
    r.system = read_attribute(file, "system");
    r.scenario = read_attribute(file, "scenario");
    r.complete = read_attribute(file, "complete") == "yes";
    r.reason = read_attribute(file, "reason");
    auto source = std::make_shared<Hdf5Source>(path, std::move(file));
    Handle set(H5Dopen2(source->file(), "columns", H5P_DEFAULT), H5Dclose), type = column_type();
    if (!set.ok()) throw source->refuse("a part of it is missing");
    Handle space(H5Dget_space(set), H5Sclose);
    std::vector<ColumnRow> rows(static_cast<std::size_t>(H5Sget_simple_extent_npoints(space)));
    if (H5Dread(set, type, H5S_ALL, H5S_ALL, H5P_DEFAULT, rows.data()) < 0) throw source->refuse("its columns cannot be read");
    for (const ColumnRow& row : rows) {
        Column c;
        c.name = row.name;
        c.unit = row.unit;
        c.scale = row.scale;
        c.offset = row.offset;
        c.description = row.description;
        c.origin = row.origin;
        source->index.push_back(static_cast<std::size_t>(row.index));
        r.columns.push_back(std::move(c));
    }
    H5Dvlen_reclaim(type, space, H5P_DEFAULT, rows.data());
    bool inside = std::all_of(source->index.begin(), source->index.end(), [&](std::size_t i) { return i < source->width(); });
    if (!inside || r.columns.empty()) throw source->refuse("a column points outside its values");
    read_events(source->file(), r.events);
    read_about(read_text(source->file(), "about"), r);
    read_results(read_text(source->file(), "results"), r);
    return source;
}

}  // namespace netloop
