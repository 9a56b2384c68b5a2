// SPDX-License-Identifier: Apache-2.0
// What the writer and the reader of HDF5 recordings share: handles, texts, the rows of the tables. docs/recordings.md describes the layout.
#pragma once

#include <hdf5.h>

#include <cstdint>
#include <string>
#include <utility>
#include <vector>

namespace netloop::hdf5 {

constexpr const char* kForm = "netloop recording 1";

/// An HDF5 identifier that is closed at the end of its scope.
class OwnedId {
public:
    OwnedId(hid_t id, herr_t (*close)(hid_t)) : id_(id), close_(close) {}
    ~OwnedId() { reset(); }
    OwnedId(OwnedId&& other) noexcept : id_(other.id_), close_(other.close_) { other.id_ = -1; }
    OwnedId& operator=(OwnedId&& other) noexcept
    {
        std::swap(id_, other.id_);
        std::swap(close_, other.close_);
        return *this;
    }
    operator hid_t() const { return id_; }
    bool ok() const { return id_ >= 0; }
    /// Closes now; false if that failed.
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

/// A row of the table `columns`.
struct ColumnRow {
    const char* name = nullptr;
    const char* unit = nullptr;
    double scale = 1;
    double offset = 0;
    const char* description = nullptr;
    const char* origin = nullptr;
    std::int64_t index = -1;
};

/// A row of the table `events`.
struct EventRow {
    const char* text = nullptr;
    const char* part = nullptr;
    const char* place = nullptr;
    std::int64_t first = 0;
    std::int64_t count = 0;
    double steps_lost = 0;
    double seconds = 0;
};

/// The library's own messages are not for users.
void quiet();
OwnedId text_type();
OwnedId column_type();
OwnedId event_type();
/// Whether the file, or a group in it, itself holds something of this name.
bool has(hid_t file, const char* name);

bool write_attribute(hid_t at, const char* name, const std::string& text);
bool write_number(hid_t at, const char* name, double value);
bool write_text(hid_t file, const char* name, const std::string& text);
/// Empty, or 0, if there is none, or something else than one text or one number.
std::string read_attribute(hid_t at, const char* name);
double read_number(hid_t at, const char* name);
std::string read_text(hid_t file, const char* name);

/// What a data set is said to hold, before anything of it is read. A file from elsewhere may say what it likes.
struct Contents {
    H5T_class_t type = H5T_NO_CLASS;
    bool any_length = false;  ///< texts of any length
    int rank = -1;            ///< 0: a single value; -1: not known
    hsize_t size[2] = {0, 0};
    hsize_t stored = 0;  ///< bytes on the disk
    hsize_t n() const { return rank == 0 ? 1 : rank == 1 ? size[0] : rank == 2 ? size[0] * size[1] : 0; }
    bool numbers() const { return type == H5T_FLOAT || type == H5T_INTEGER; }
    /// Whether so many numbers can be in what is stored: packed as well as may be.
    bool holds_numbers() const;
};
Contents contents_of(hid_t set);
/// Whether a data set is a table of one dimension with `texts` (of any length) and `numbers` among its columns, at most `most` rows.
bool is_table(hid_t set, const Contents& contents, const std::vector<const char*>& texts, const std::vector<const char*>& numbers, hsize_t most);

}  // namespace netloop::hdf5
