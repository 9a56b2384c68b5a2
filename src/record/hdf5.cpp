// HDF5: `values` (rows x stored columns, SI), `columns` (name, unit, scale, offset, description, origin, index into values).
// Aliases share one stored column. Attributes of the file: form, system, scenario, complete, reason.
#include <fmt/format.h>
#include <hdf5.h>

#include <algorithm>
#include <chrono>
#include <cstdio>
#include <filesystem>

#include "record/about_json.hpp"
#include "record/writer.hpp"

namespace netloop {
namespace {

constexpr const char* kForm = "netloop recording 1";
constexpr std::size_t kBufferedNumbers = 1u << 16;

class Handle {
public:
    Handle(hid_t id, herr_t (*close)(hid_t)) : id_(id), close_(close) {}
    ~Handle() { reset(); }
    Handle(Handle&& other) noexcept : id_(other.id_), close_(other.close_) { other.id_ = -1; }
    Handle& operator=(Handle&& other) noexcept
    {
        std::swap(id_, other.id_);
        std::swap(close_, other.close_);
        return *this;
    }
    operator hid_t() const { return id_; }
    bool ok() const { return id_ >= 0; }
    bool reset()
    {
        bool good = id_ < 0 || close_(id_) >= 0;
        id_ = -1;
        return good;
    }

private:
    hid_t id_;
    herr_t (*close_)(hid_t);
};

void quiet()
{
    H5Eset_auto2(H5E_DEFAULT, nullptr, nullptr);
}

Handle text_type()
{
    Handle t(H5Tcopy(H5T_C_S1), H5Tclose);
    H5Tset_size(t, H5T_VARIABLE);
    H5Tset_cset(t, H5T_CSET_UTF8);
    return t;
}

bool write_attribute(hid_t at, const char* name, const std::string& text)
{
    Handle type = text_type(), space(H5Screate(H5S_SCALAR), H5Sclose);
    Handle a(H5Acreate2(at, name, type, space, H5P_DEFAULT, H5P_DEFAULT), H5Aclose);
    const char* value = text.c_str();
    return a.ok() && H5Awrite(a, type, &value) >= 0;
}

std::string read_attribute(hid_t at, const char* name)
{
    Handle a(H5Aopen(at, name, H5P_DEFAULT), H5Aclose);
    if (!a.ok()) return {};
    Handle type = text_type();
    char* value = nullptr;
    if (H5Aread(a, type, &value) < 0 || value == nullptr) return {};
    std::string text = value;
    H5free_memory(value);
    return text;
}

// The text of a scalar data set; empty if there is none.
std::string read_text(hid_t file, const char* name)
{
    if (H5Lexists(file, name, H5P_DEFAULT) <= 0) return {};
    Handle set(H5Dopen2(file, name, H5P_DEFAULT), H5Dclose), type = text_type();
    char* value = nullptr;
    if (!set.ok() || H5Dread(set, type, H5S_ALL, H5S_ALL, H5P_DEFAULT, &value) < 0 || value == nullptr) return {};
    std::string text = value;
    H5free_memory(value);
    return text;
}

struct ColumnRow {
    const char* name;
    const char* unit;
    double scale;
    double offset;
    const char* description;
    const char* origin;
    std::int64_t index;
};

Handle column_type()
{
    Handle text = text_type();
    Handle t(H5Tcreate(H5T_COMPOUND, sizeof(ColumnRow)), H5Tclose);
    H5Tinsert(t, "name", HOFFSET(ColumnRow, name), text);
    H5Tinsert(t, "unit", HOFFSET(ColumnRow, unit), text);
    H5Tinsert(t, "scale", HOFFSET(ColumnRow, scale), H5T_NATIVE_DOUBLE);
    H5Tinsert(t, "offset", HOFFSET(ColumnRow, offset), H5T_NATIVE_DOUBLE);
    H5Tinsert(t, "description", HOFFSET(ColumnRow, description), text);
    H5Tinsert(t, "origin", HOFFSET(ColumnRow, origin), text);
    H5Tinsert(t, "index", HOFFSET(ColumnRow, index), H5T_NATIVE_INT64);
    return t;
}

struct EventRow {
    const char* text;
    const char* part;
    const char* place;
    std::int64_t first;
    std::int64_t count;
    double steps_lost;
    double seconds;
};

Handle event_type()
{
    Handle text = text_type();
    Handle t(H5Tcreate(H5T_COMPOUND, sizeof(EventRow)), H5Tclose);
    H5Tinsert(t, "condition", HOFFSET(EventRow, text), text);
    H5Tinsert(t, "part", HOFFSET(EventRow, part), text);
    H5Tinsert(t, "place", HOFFSET(EventRow, place), text);
    H5Tinsert(t, "first", HOFFSET(EventRow, first), H5T_NATIVE_INT64);
    H5Tinsert(t, "count", HOFFSET(EventRow, count), H5T_NATIVE_INT64);
    H5Tinsert(t, "steps_lost", HOFFSET(EventRow, steps_lost), H5T_NATIVE_DOUBLE);
    H5Tinsert(t, "seconds", HOFFSET(EventRow, seconds), H5T_NATIVE_DOUBLE);
    return t;
}

bool write_number(hid_t at, const char* name, double value)
{
    Handle space(H5Screate(H5S_SCALAR), H5Sclose);
    Handle a(H5Acreate2(at, name, H5T_NATIVE_DOUBLE, space, H5P_DEFAULT, H5P_DEFAULT), H5Aclose);
    return a.ok() && H5Awrite(a, H5T_NATIVE_DOUBLE, &value) >= 0;
}

double read_number(hid_t at, const char* name)
{
    Handle a(H5Aopen(at, name, H5P_DEFAULT), H5Aclose);
    double value = 0;
    if (a.ok()) H5Aread(a, H5T_NATIVE_DOUBLE, &value);
    return value;
}

// A recording of an interrupted writer, or an older one, holds none.
void read_events(hid_t file, EventRecord& record)
{
    if (H5Lexists(file, "events", H5P_DEFAULT) <= 0 || H5Lexists(file, "event_times", H5P_DEFAULT) <= 0) return;
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

class Hdf5Writer : public RecordingWriter {
public:
    Hdf5Writer(std::string path, const RecordingHead& head) : path_(std::move(path)), unfinished_(unfinished_name(path_))
    {
        quiet();
        Handle access(H5Pcreate(H5P_FILE_ACCESS), H5Pclose);
        H5Pset_libver_bounds(access, H5F_LIBVER_LATEST, H5F_LIBVER_LATEST);
        file_ = Handle(H5Fcreate(unfinished_.c_str(), H5F_ACC_TRUNC, H5P_DEFAULT, access), H5Fclose);
        if (!file_.ok()) throw RecordingError(fmt::format("'{}' cannot be written", path_));
        std::vector<std::int64_t> index(head.columns.size());
        for (std::size_t i = 0; i < head.columns.size(); ++i) {
            if (head.stored_as[i] == i) {
                index[i] = static_cast<std::int64_t>(stored_.size());
                stored_.push_back(i);
            } else {
                index[i] = index[head.stored_as[i]];
            }
        }
        bool ok = write_attribute(file_, "form", kForm) && write_attribute(file_, "system", head.system) && write_attribute(file_, "scenario", head.scenario);
        ok = ok && write_text("about", about_text(head.origin, head.figures)) && write_columns(head, index) && make_values();
        if (!ok) failed();
        // a run that is killed leaves a file that says so
        write_state("no", "the run did not end");
        // single-writer mode: whatever moment the run is killed at, what is on disk is whole
        if (H5Fstart_swmr_write(file_) < 0) failed();
    }
    ~Hdf5Writer() override
    {
        values_.reset();
        if (!file_.ok()) return;
        file_.reset();
        if (n_rows_ == 0) std::remove(unfinished_.c_str());
    }
    Hdf5Writer(const Hdf5Writer&) = delete;
    Hdf5Writer& operator=(const Hdf5Writer&) = delete;

    void row(const double* values) override
    {
        for (std::size_t c : stored_) buffer_.push_back(values[c]);
        ++n_rows_;
        auto now = std::chrono::steady_clock::now();
        bool late = now - flushed_ > std::chrono::seconds(1);
        if (buffer_.size() < kBufferedNumbers && !late) return;
        if (!write_buffer() || (late && H5Fflush(file_, H5F_SCOPE_LOCAL) < 0)) failed();
        if (late) flushed_ = now;
    }

    void events(const EventRecord& record) override { record_ = record; }
    void results(const std::vector<MeasureResult>& measures, const std::vector<DemandResult>& demands) override { results_ = results_text(measures, demands); }

    void finish(bool complete, const std::string& reason) override
    {
        if (n_rows_ == 0) {
            values_.reset();
            file_.reset();
            std::remove(unfinished_.c_str());
            return;
        }
        bool ok = write_buffer();
        ok = values_.reset() && ok;
        ok = file_.reset() && ok;
        if (ok) {  // attributes cannot be changed in single-writer mode
            file_ = Handle(H5Fopen(unfinished_.c_str(), H5F_ACC_RDWR, H5P_DEFAULT), H5Fclose);
            ok = file_.ok();
            if (ok) write_state(complete ? "yes" : "no", reason);
            ok = ok && write_events() && (results_.empty() || write_text("results", results_));
            ok = file_.reset() && ok;
        }
        if (!ok) throw RecordingError(fmt::format("'{}' cannot be written: the disk is full or failed; what was written stays in '{}'", path_, unfinished_));
        give_name(unfinished_, path_);
    }

private:
    [[noreturn]] void failed() { throw RecordingError(fmt::format("'{}' cannot be written: the disk is full or failed", path_)); }

    void write_state(const char* complete, const std::string& reason)
    {
        for (const char* name : {"complete", "reason"}) H5Adelete(file_, name);
        write_attribute(file_, "complete", complete);
        write_attribute(file_, "reason", reason);
    }

    bool write_text(const char* name, const std::string& text)
    {
        Handle type = text_type(), space(H5Screate(H5S_SCALAR), H5Sclose);
        Handle set(H5Dcreate2(file_, name, type, space, H5P_DEFAULT, H5P_DEFAULT, H5P_DEFAULT), H5Dclose);
        const char* value = text.c_str();
        return set.ok() && H5Dwrite(set, type, H5S_ALL, H5S_ALL, H5P_DEFAULT, &value) >= 0;
    }

    bool write_columns(const RecordingHead& head, const std::vector<std::int64_t>& index)
    {
        std::vector<ColumnRow> rows;
        for (std::size_t i = 0; i < head.columns.size(); ++i) {
            const Column& c = head.columns[i];
            rows.push_back({c.name.c_str(), c.unit.c_str(), c.scale, c.offset, c.description.c_str(), c.origin.c_str(), index[i]});
        }
        hsize_t n = rows.size();
        Handle type = column_type(), space(H5Screate_simple(1, &n, nullptr), H5Sclose);
        Handle set(H5Dcreate2(file_, "columns", type, space, H5P_DEFAULT, H5P_DEFAULT, H5P_DEFAULT), H5Dclose);
        return set.ok() && H5Dwrite(set, type, H5S_ALL, H5S_ALL, H5P_DEFAULT, rows.data()) >= 0;
    }

    bool write_events()
    {
        std::vector<EventRow> rows;
        std::vector<double> times;
        for (const EventEntry& e : record_.kinds) {
            rows.push_back({e.text.c_str(), e.part.c_str(), e.place.c_str(), static_cast<std::int64_t>(times.size()), static_cast<std::int64_t>(e.times.size()),
                            e.steps_lost, e.seconds});
            times.insert(times.end(), e.times.begin(), e.times.end());
        }
        hsize_t n = rows.size(), n_times = times.size();
        Handle type = event_type(), space(H5Screate_simple(1, &n, nullptr), H5Sclose), time_space(H5Screate_simple(1, &n_times, nullptr), H5Sclose);
        Handle set(H5Dcreate2(file_, "events", type, space, H5P_DEFAULT, H5P_DEFAULT, H5P_DEFAULT), H5Dclose);
        Handle time_set(H5Dcreate2(file_, "event_times", H5T_NATIVE_DOUBLE, time_space, H5P_DEFAULT, H5P_DEFAULT, H5P_DEFAULT), H5Dclose);
        if (!set.ok() || !time_set.ok()) return false;
        bool ok = write_number(set, "steps", record_.steps) && write_number(set, "seconds", record_.seconds);
        ok = ok && (rows.empty() || H5Dwrite(set, type, H5S_ALL, H5S_ALL, H5P_DEFAULT, rows.data()) >= 0);
        return ok && (times.empty() || H5Dwrite(time_set, H5T_NATIVE_DOUBLE, H5S_ALL, H5S_ALL, H5P_DEFAULT, times.data()) >= 0);
    }

    bool make_values()
    {
        hsize_t size[2] = {0, stored_.size()}, most[2] = {H5S_UNLIMITED, stored_.size()};
        hsize_t chunk[2] = {256, std::min<hsize_t>(stored_.size(), 32)};
        Handle space(H5Screate_simple(2, size, most), H5Sclose), create(H5Pcreate(H5P_DATASET_CREATE), H5Pclose);
        H5Pset_chunk(create, 2, chunk);
        values_ = Handle(H5Dcreate2(file_, "values", H5T_NATIVE_DOUBLE, space, H5P_DEFAULT, create, H5P_DEFAULT), H5Dclose);
        return values_.ok() && write_attribute(values_, "units", "SI base units; `columns` tells the display unit of each");
    }

    bool write_buffer()
    {
        if (buffer_.empty()) return true;
        hsize_t rows = buffer_.size() / stored_.size();
        hsize_t size[2] = {written_ + rows, stored_.size()}, at[2] = {written_, 0}, count[2] = {rows, stored_.size()};
        if (H5Dset_extent(values_, size) < 0) return false;
        Handle file_space(H5Dget_space(values_), H5Sclose), memory_space(H5Screate_simple(2, count, nullptr), H5Sclose);
        H5Sselect_hyperslab(file_space, H5S_SELECT_SET, at, nullptr, count, nullptr);
        bool ok = H5Dwrite(values_, H5T_NATIVE_DOUBLE, memory_space, file_space, H5P_DEFAULT, buffer_.data()) >= 0;
        written_ += rows;
        buffer_.clear();
        return ok;
    }

    EventRecord record_;
    std::string results_;
    std::string path_, unfinished_;
    Handle file_{-1, H5Fclose}, values_{-1, H5Dclose};
    std::vector<std::size_t> stored_;
    std::vector<double> buffer_;
    hsize_t written_ = 0;
    std::size_t n_rows_ = 0;
    std::chrono::steady_clock::time_point flushed_ = std::chrono::steady_clock::now();
};

}  // namespace

std::unique_ptr<RecordingWriter> open_hdf5_writer(const std::string& path, const RecordingHead& head)
{
    return std::make_unique<Hdf5Writer>(path, head);
}

Recording read_hdf5(const std::string& path)
{
    quiet();
    auto refuse = [&](const char* why) { return RecordingError(fmt::format("'{}' is no recording: {}", path, why)); };
    Handle file(H5Fopen(path.c_str(), H5F_ACC_RDONLY, H5P_DEFAULT), H5Fclose);
    // of a run that was killed, or that still goes on
    if (!file.ok()) file = Handle(H5Fopen(path.c_str(), H5F_ACC_RDONLY | H5F_ACC_SWMR_READ, H5P_DEFAULT), H5Fclose);
    if (!file.ok()) throw refuse("not an HDF5 file, or one that is damaged");
    if (read_attribute(file, "form") != kForm) throw refuse("it was not written by a run of netloop");
    Recording r;
    r.system = read_attribute(file, "system");
    r.scenario = read_attribute(file, "scenario");
    r.complete = read_attribute(file, "complete") == "yes";
    r.reason = read_attribute(file, "reason");
    Handle set(H5Dopen2(file, "columns", H5P_DEFAULT), H5Dclose), values(H5Dopen2(file, "values", H5P_DEFAULT), H5Dclose);
    if (!set.ok() || !values.ok()) throw refuse("a part of it is missing");
    Handle space(H5Dget_space(set), H5Sclose), value_space(H5Dget_space(values), H5Sclose);
    auto n = static_cast<std::size_t>(H5Sget_simple_extent_npoints(space));
    hsize_t size[2] = {0, 0};
    H5Sget_simple_extent_dims(value_space, size, nullptr);
    Handle type = column_type();
    std::vector<ColumnRow> rows(n);
    if (H5Dread(set, type, H5S_ALL, H5S_ALL, H5P_DEFAULT, rows.data()) < 0) throw refuse("its columns cannot be read");
    std::vector<double> all(static_cast<std::size_t>(size[0] * size[1]));
    if (!all.empty() && H5Dread(values, H5T_NATIVE_DOUBLE, H5S_ALL, H5S_ALL, H5P_DEFAULT, all.data()) < 0) throw refuse("its values cannot be read");
    for (const ColumnRow& row : rows) {
        Column c;
        c.name = row.name;
        c.unit = row.unit;
        c.scale = row.scale;
        c.offset = row.offset;
        c.description = row.description;
        c.origin = row.origin;
        auto index = static_cast<std::size_t>(row.index);
        if (index >= size[1]) throw refuse("a column points outside its values");
        for (hsize_t k = 0; k < size[0]; ++k) c.values.push_back(all[static_cast<std::size_t>(k * size[1]) + index]);
        r.columns.push_back(std::move(c));
    }
    H5Dvlen_reclaim(type, space, H5P_DEFAULT, rows.data());
    read_events(file, r.events);
    read_about(read_text(file, "about"), r);
    read_results(read_text(file, "results"), r);
    return r;
}

}  // namespace netloop
