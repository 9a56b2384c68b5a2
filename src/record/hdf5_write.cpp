// SPDX-License-Identifier: Apache-2.0
// A recording goes to disk block by block. While the run goes on the file is in HDF5's single-writer mode: whatever moment the run is killed at, what is on
// disk is whole. Rows that do not fill a block yet are put into `tail` once a second; it is gone when the run ends.
#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cstdio>

#include "record/about_json.hpp"
#include "record/hdf5.hpp"
#include "record/hdf5_points.hpp"
#include "record/packed_blocks.hpp"
#include "record/writer.hpp"

namespace netloop {
namespace {

using namespace hdf5;

constexpr hsize_t kTailRows = 64;  // of a chunk of the tail
constexpr double kHole = 0.1;      // of the file: with more unused space than this it is copied

class Hdf5Writer : public RecordingWriter {
public:
    Hdf5Writer(const std::string& path, const RecordingHead& head, const std::vector<std::string>& inputs)
        : out_(path, recording_rules(inputs, true)), unfinished_(out_.unfinished())
    {
        quiet();
        std::vector<std::int64_t> index(head.columns.size());
        for (std::size_t i = 0; i < head.columns.size(); ++i) {
            if (head.stored_as[i] == i) {
                index[i] = static_cast<std::int64_t>(stored_.size());
                stored_.push_back(i);
            } else {
                index[i] = index[head.stored_as[i]];
            }
        }
        shape_ = chunk_shape(stored_.size());
        file_ = make_file(unfinished_, H5F_ACC_TRUNC);
        bool ok = file_.ok() && write_attribute(file_, "form", kForm) && write_attribute(file_, "system", head.system) &&
                  write_attribute(file_, "scenario", head.scenario);
        ok = ok && write_text(file_, "about", about_text(head.origin, head.figures)) && write_columns(head, index) && write_plain(head, index) && make_values();
        // a run that is killed leaves a file that says so
        ok = ok && write_state("no", "the run did not end") && H5Fstart_swmr_write(file_) >= 0;
        if (!ok) failed();
        bool safe = false;  // two threads may use the library
        H5is_library_threadsafe(&safe);
        auto sink = [this](const RowBlock& block, const std::vector<std::vector<std::uint8_t>>& chunks) { return write_block(block, chunks); };
        packer_ = std::make_unique<BlockPacker>(stored_.size(), shape_, sink, safe);
    }
    ~Hdf5Writer() override
    {
        packer_.reset();
        close_sets();
        file_.reset();
        // what was written before something failed can be read
        if (!finished_ && n_rows_ > 0 && !out_.written_through()) out_.keep();
    }
    Hdf5Writer(const Hdf5Writer&) = delete;
    Hdf5Writer& operator=(const Hdf5Writer&) = delete;

    void row(const double* values) override
    {
        if (block_.data.empty()) block_.data = packer_->room();
        double* to = block_.data.data() + block_.rows * stored_.size();
        for (std::size_t c : stored_) *to++ = values[c];
        ++n_rows_;
        if (++block_.rows == shape_.rows && !hand_over()) failed();
        auto now = std::chrono::steady_clock::now();
        if (now - flushed_ < std::chrono::seconds(1)) return;
        if (!packer_->wait() || !write_tail() || H5Fflush(file_, H5F_SCOPE_LOCAL) < 0) failed();
        flushed_ = now;
    }

    void events(const EventRecord& record) override { record_ = record; }
    void results(const RunResults& results) override
    {
        results_ = results_text(results);
        points_ = results.points;
    }

    Filed finish(bool complete, const std::string& reason) override
    {
        if (n_rows_ == 0) return {};
        bool ok = block_.rows == 0 || hand_over();
        ok = packer_->wait() && ok;
        ok = close_sets() && ok;
        ok = file_.reset() && ok;
        if (ok) {  // attributes cannot be changed in single-writer mode
            file_ = OwnedId(H5Fopen(unfinished_.c_str(), H5F_ACC_RDWR, H5P_DEFAULT), H5Fclose);
            ok = file_.ok() && H5Ldelete(file_, "tail", H5P_DEFAULT) >= 0 && H5Ldelete(file_, "tail_rows", H5P_DEFAULT) >= 0;
            ok = ok && close_hole() && write_state(complete ? "yes" : "no", reason);
            ok = ok && write_events() && (results_.empty() || write_text(file_, "results", results_)) && write_points(file_, points_);
            ok = file_.reset() && ok;
        }
        if (!ok) failed();
        finished_ = true;
        return file_away(out_, complete, true);
    }

private:
    [[noreturn]] void failed()
    {
        bool kept = n_rows_ > 0 && !out_.written_through();
        throw RecordingError(fmt::format("'{}' cannot be written: the disk is full or failed{}", out_.path(),
                                         kept ? fmt::format("; what was written stays in '{}'", unfinished_) : ""));
    }

    // The unfinished file is there already, and nobody else's.
    static OwnedId make_file(const std::string& name, unsigned how)
    {
        OwnedId access(H5Pcreate(H5P_FILE_ACCESS), H5Pclose);
        H5Pset_libver_bounds(access, H5F_LIBVER_LATEST, H5F_LIBVER_LATEST);
        return {H5Fcreate(name.c_str(), how, H5P_DEFAULT, access), H5Fclose};
    }

    bool close_sets()
    {
        bool ok = values_.reset();
        ok = tail_.reset() && ok;
        return tail_rows_.reset() && ok;
    }

    bool write_state(const char* complete, const std::string& reason)
    {
        for (const char* name : {"complete", "reason"}) H5Adelete(file_, name);
        return write_attribute(file_, "complete", complete) && write_attribute(file_, "reason", reason);
    }

    bool write_columns(const RecordingHead& head, const std::vector<std::int64_t>& index)
    {
        std::vector<ColumnRow> rows;
        for (std::size_t i = 0; i < head.columns.size(); ++i) {
            const Column& c = head.columns[i];
            rows.push_back({c.name.c_str(), c.unit.c_str(), c.scale, c.offset, c.description.c_str(), c.origin.c_str(), index[i]});
        }
        hsize_t n = rows.size();
        OwnedId type = column_type(), space(H5Screate_simple(1, &n, nullptr), H5Sclose);
        OwnedId set(H5Dcreate2(file_, "columns", type, space, H5P_DEFAULT, H5P_DEFAULT, H5P_DEFAULT), H5Dclose);
        return set.ok() && H5Dwrite(set, type, H5S_ALL, H5S_ALL, H5P_DEFAULT, rows.data()) >= 0;
    }

    // For programs that read neither tables of mixed types nor texts of any length.
    bool write_plain(const RecordingHead& head, const std::vector<std::int64_t>& index)
    {
        std::size_t length = 1;
        for (const Column& c : head.columns) length = std::max(length, c.name.size());
        std::vector<char> names(head.columns.size() * length, 0);
        std::vector<double> scales, offsets;
        for (std::size_t i = 0; i < head.columns.size(); ++i) {
            std::copy(head.columns[i].name.begin(), head.columns[i].name.end(), names.begin() + static_cast<long>(i * length));
            scales.push_back(head.columns[i].scale);
            offsets.push_back(head.columns[i].offset);
        }
        hsize_t n = head.columns.size();
        OwnedId space(H5Screate_simple(1, &n, nullptr), H5Sclose), text(H5Tcopy(H5T_C_S1), H5Tclose);
        H5Tset_size(text, length);
        H5Tset_strpad(text, H5T_STR_NULLPAD);
        OwnedId group(H5Gcreate2(file_, "plain", H5P_DEFAULT, H5P_DEFAULT, H5P_DEFAULT), H5Gclose);
        auto write = [&](const char* name, hid_t type, const void* data) {
            OwnedId set(H5Dcreate2(group, name, type, space, H5P_DEFAULT, H5P_DEFAULT, H5P_DEFAULT), H5Dclose);
            return set.ok() && H5Dwrite(set, type, H5S_ALL, H5S_ALL, H5P_DEFAULT, data) >= 0;
        };
        return group.ok() && write("name", text, names.data()) && write("index", H5T_NATIVE_INT64, index.data()) &&
               write("scale", H5T_NATIVE_DOUBLE, scales.data()) && write("offset", H5T_NATIVE_DOUBLE, offsets.data());
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
        OwnedId type = event_type(), space(H5Screate_simple(1, &n, nullptr), H5Sclose), time_space(H5Screate_simple(1, &n_times, nullptr), H5Sclose);
        OwnedId set(H5Dcreate2(file_, "events", type, space, H5P_DEFAULT, H5P_DEFAULT, H5P_DEFAULT), H5Dclose);
        OwnedId time_set(H5Dcreate2(file_, "event_times", H5T_NATIVE_DOUBLE, time_space, H5P_DEFAULT, H5P_DEFAULT, H5P_DEFAULT), H5Dclose);
        if (!set.ok() || !time_set.ok()) return false;
        bool ok = write_number(set, "steps", record_.steps) && write_number(set, "seconds", record_.seconds);
        ok = ok && (rows.empty() || H5Dwrite(set, type, H5S_ALL, H5S_ALL, H5P_DEFAULT, rows.data()) >= 0);
        return ok && (times.empty() || H5Dwrite(time_set, H5T_NATIVE_DOUBLE, H5S_ALL, H5S_ALL, H5P_DEFAULT, times.data()) >= 0);
    }

    bool make_values()
    {
        hsize_t width = stored_.size(), size[2] = {0, width}, most[2] = {H5S_UNLIMITED, width}, chunk[2] = {shape_.rows, shape_.columns};
        OwnedId space(H5Screate_simple(2, size, most), H5Sclose), create(H5Pcreate(H5P_DATASET_CREATE), H5Pclose);
        H5Pset_chunk(create, 2, chunk);
        H5Pset_shuffle(create);
        H5Pset_deflate(create, 1);
        values_ = OwnedId(H5Dcreate2(file_, "values", H5T_IEEE_F64LE, space, H5P_DEFAULT, create, H5P_DEFAULT), H5Dclose);

        hsize_t tail_size[2] = {shape_.rows, width}, tail_chunk[2] = {kTailRows, std::min<hsize_t>(width, 1024)};
        OwnedId tail_space(H5Screate_simple(2, tail_size, nullptr), H5Sclose), tail_create(H5Pcreate(H5P_DATASET_CREATE), H5Pclose);
        H5Pset_chunk(tail_create, 2, tail_chunk);
        tail_ = OwnedId(H5Dcreate2(file_, "tail", H5T_IEEE_F64LE, tail_space, H5P_DEFAULT, tail_create, H5P_DEFAULT), H5Dclose);
        hsize_t two = 2;
        OwnedId rows_space(H5Screate_simple(1, &two, nullptr), H5Sclose), rows_create(H5Pcreate(H5P_DATASET_CREATE), H5Pclose);
        H5Pset_alloc_time(rows_create, H5D_ALLOC_TIME_EARLY);
        tail_rows_ = OwnedId(H5Dcreate2(file_, "tail_rows", H5T_STD_I64LE, rows_space, H5P_DEFAULT, rows_create, H5P_DEFAULT), H5Dclose);
        return values_.ok() && tail_.ok() && tail_rows_.ok() && write_attribute(values_, "units", "SI base units; `columns` tells the display unit of each");
    }

    bool hand_over()
    {
        std::size_t next = block_.first + block_.rows;
        bool ok = packer_->put(std::move(block_));
        block_ = {};
        block_.first = next;
        in_tail_ = 0;
        return ok;
    }

    // In the packing thread, to which the library's messages must be forbidden anew.
    bool write_block(const RowBlock& block, const std::vector<std::vector<std::uint8_t>>& chunks)
    {
        quiet();
        hsize_t size[2] = {block.first + block.rows, stored_.size()};
        if (H5Dset_extent(values_, size) < 0) return false;
        for (std::size_t k = 0; k < chunks.size(); ++k) {
            hsize_t at[2] = {block.first, k * shape_.columns};
            if (H5Dwrite_chunk(values_, H5P_DEFAULT, 0, at, chunks[k].size(), chunks[k].data()) < 0) return false;
        }
        return true;
    }

    // `tail_rows` holds the row that the tail begins with and how many it has.
    bool write_tail()
    {
        if (block_.rows > in_tail_) {
            hsize_t at[2] = {in_tail_, 0}, count[2] = {block_.rows - in_tail_, stored_.size()};
            OwnedId file_space(H5Dget_space(tail_), H5Sclose), memory_space(H5Screate_simple(2, count, nullptr), H5Sclose);
            H5Sselect_hyperslab(file_space, H5S_SELECT_SET, at, nullptr, count, nullptr);
            const double* from = block_.data.data() + in_tail_ * stored_.size();
            if (H5Dwrite(tail_, H5T_NATIVE_DOUBLE, memory_space, file_space, H5P_DEFAULT, from) < 0) return false;
            in_tail_ = block_.rows;
        }
        std::int64_t state[2] = {static_cast<std::int64_t>(block_.first), static_cast<std::int64_t>(block_.rows)};
        return H5Dwrite(tail_rows_, H5T_NATIVE_INT64, H5S_ALL, H5S_ALL, H5P_DEFAULT, state) >= 0;
    }

    // Where the tail was there may be nothing now: then the rest moves into a file without a hole.
    bool close_hole()
    {
        hsize_t size = 0;
        if (H5Fget_filesize(file_, &size) < 0) return false;
        auto unused = static_cast<double>(H5Fget_freespace(file_));
        if (unused < kHole * static_cast<double>(size)) return true;
        std::string other = unfinished_ + ".copy";
        OwnedId copy = make_file(other, H5F_ACC_EXCL);
        if (!copy.ok()) return true;
        bool ok = true;
        for (const char* name : {"form", "system", "scenario"}) ok = ok && write_attribute(copy, name, read_attribute(file_, name));
        for (const char* name : {"about", "columns", "plain", "values"}) ok = ok && H5Ocopy(file_, name, copy, name, H5P_DEFAULT, H5P_DEFAULT) >= 0;
        ok = ok && H5Fflush(copy, H5F_SCOPE_LOCAL) >= 0;
        if (!ok) {  // the hole does no harm
            copy.reset();
            std::remove(other.c_str());
            return true;
        }
        file_.reset();
        file_ = std::move(copy);
        return std::rename(other.c_str(), unfinished_.c_str()) == 0;
    }

    EventRecord record_;
    std::string results_;
    std::vector<RunPoint> points_;
    OutputFile out_;
    std::string unfinished_;
    bool finished_ = false;
    OwnedId file_{-1, H5Fclose}, values_{-1, H5Dclose}, tail_{-1, H5Dclose}, tail_rows_{-1, H5Dclose};
    std::vector<std::size_t> stored_;
    ChunkShape shape_;
    RowBlock block_;
    std::size_t in_tail_ = 0;  ///< rows of the block that are in the tail
    std::unique_ptr<BlockPacker> packer_;
    std::size_t n_rows_ = 0;
    std::chrono::steady_clock::time_point flushed_ = std::chrono::steady_clock::now();
};

}  // namespace

std::unique_ptr<RecordingWriter> open_hdf5_writer(const std::string& path, const RecordingHead& head, const std::vector<std::string>& inputs)
{
    return std::make_unique<Hdf5Writer>(path, head, inputs);
}

}  // namespace netloop
