// What the writer and the reader of HDF5 recordings share: handles, texts, the rows of the tables. docs/recordings.md describes the layout.
#pragma once

#include <hdf5.h>

#include <cstdint>
#include <string>
#include <utility>

namespace netloop::hdf5 {

constexpr const char* kForm = "netloop recording 1";

/// An HDF5 identifier that is closed at the end of its scope.
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
    const char* name;
    const char* unit;
    double scale;
    double offset;
    const char* description;
    const char* origin;
    std::int64_t index;
};

/// A row of the table `events`.
struct EventRow {
    const char* text;
    const char* part;
    const char* place;
    std::int64_t first;
    std::int64_t count;
    double steps_lost;
    double seconds;
};

/// The library's own messages are not for users.
void quiet();
Handle text_type();
Handle column_type();
Handle event_type();
/// Whether the file has a data set of this name.
bool has(hid_t file, const char* name);

bool write_attribute(hid_t at, const char* name, const std::string& text);
bool write_number(hid_t at, const char* name, double value);
bool write_text(hid_t file, const char* name, const std::string& text);
/// Empty, or 0, if there is none.
std::string read_attribute(hid_t at, const char* name);
double read_number(hid_t at, const char* name);
std::string read_text(hid_t file, const char* name);

}  // namespace netloop::hdf5
