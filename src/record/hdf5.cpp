// SPDX-License-Identifier: Apache-2.0
#include "record/hdf5.hpp"

namespace netloop::hdf5 {

void quiet()
{
    H5Eset_auto2(H5E_DEFAULT, nullptr, nullptr);
}

OwnedId text_type()
{
    OwnedId t(H5Tcopy(H5T_C_S1), H5Tclose);
    H5Tset_size(t, H5T_VARIABLE);
    H5Tset_cset(t, H5T_CSET_UTF8);
    return t;
}

bool has(hid_t file, const char* name)
{
    // what stands in another file, or points elsewhere, is none of ours
    H5L_info_t link;
    return H5Lexists(file, name, H5P_DEFAULT) > 0 && H5Lget_info(file, name, &link, H5P_DEFAULT) >= 0 && link.type == H5L_TYPE_HARD;
}

bool write_attribute(hid_t at, const char* name, const std::string& text)
{
    OwnedId type = text_type(), space(H5Screate(H5S_SCALAR), H5Sclose);
    OwnedId a(H5Acreate2(at, name, type, space, H5P_DEFAULT, H5P_DEFAULT), H5Aclose);
    const char* value = text.c_str();
    return a.ok() && H5Awrite(a, type, &value) >= 0;
}

bool write_number(hid_t at, const char* name, double value)
{
    OwnedId space(H5Screate(H5S_SCALAR), H5Sclose);
    OwnedId a(H5Acreate2(at, name, H5T_NATIVE_DOUBLE, space, H5P_DEFAULT, H5P_DEFAULT), H5Aclose);
    return a.ok() && H5Awrite(a, H5T_NATIVE_DOUBLE, &value) >= 0;
}

bool write_text(hid_t file, const char* name, const std::string& text)
{
    OwnedId type = text_type(), space(H5Screate(H5S_SCALAR), H5Sclose);
    OwnedId set(H5Dcreate2(file, name, type, space, H5P_DEFAULT, H5P_DEFAULT, H5P_DEFAULT), H5Dclose);
    const char* value = text.c_str();
    return set.ok() && H5Dwrite(set, type, H5S_ALL, H5S_ALL, H5P_DEFAULT, &value) >= 0;
}

namespace {
std::string taken(char* value)
{
    if (value == nullptr) return {};
    std::string text = value;
    H5free_memory(value);
    return text;
}
}  // namespace

namespace {
bool one_value(hid_t space)
{
    return H5Sget_simple_extent_type(space) != H5S_NULL && H5Sget_simple_extent_npoints(space) == 1;
}
bool is_text(hid_t type)
{
    return H5Tget_class(type) == H5T_STRING && H5Tis_variable_str(type) > 0;
}
bool is_number(hid_t type)
{
    H5T_class_t c = H5Tget_class(type);
    return c == H5T_FLOAT || c == H5T_INTEGER;
}
}  // namespace

std::string read_attribute(hid_t at, const char* name)
{
    if (H5Aexists(at, name) <= 0) return {};
    OwnedId a(H5Aopen(at, name, H5P_DEFAULT), H5Aclose);
    if (!a.ok()) return {};
    OwnedId held(H5Aget_type(a), H5Tclose), space(H5Aget_space(a), H5Sclose), type = text_type();
    char* value = nullptr;
    return held.ok() && space.ok() && is_text(held) && one_value(space) && H5Aread(a, type, &value) >= 0 ? taken(value) : "";
}

double read_number(hid_t at, const char* name)
{
    if (H5Aexists(at, name) <= 0) return 0;
    OwnedId a(H5Aopen(at, name, H5P_DEFAULT), H5Aclose);
    if (!a.ok()) return 0;
    OwnedId held(H5Aget_type(a), H5Tclose), space(H5Aget_space(a), H5Sclose);
    double value = 0;
    bool fits = held.ok() && space.ok() && is_number(held) && one_value(space);
    return fits && H5Aread(a, H5T_NATIVE_DOUBLE, &value) >= 0 ? value : 0;
}

std::string read_text(hid_t file, const char* name)
{
    if (!has(file, name)) return {};
    OwnedId set(H5Dopen2(file, name, H5P_DEFAULT), H5Dclose), type = text_type();
    if (!set.ok()) return {};
    Contents c = contents_of(set);
    char* value = nullptr;
    bool fits = c.type == H5T_STRING && c.any_length && c.rank >= 0 && c.n() == 1;
    return fits && H5Dread(set, type, H5S_ALL, H5S_ALL, H5P_DEFAULT, &value) >= 0 ? taken(value) : "";
}

bool Contents::holds_numbers() const
{
    constexpr double kDensest = 1100, kSpare = 65536;  // deflate packs no more than 1032 bytes into one
    double bytes = sizeof(double) * static_cast<double>(size[0]) * (rank == 2 ? static_cast<double>(size[1]) : 1);
    return numbers() && rank >= 1 && rank <= 2 && bytes <= kDensest * static_cast<double>(stored) + kSpare;
}

Contents contents_of(hid_t set)
{
    Contents c;
    OwnedId type(H5Dget_type(set), H5Tclose), space(H5Dget_space(set), H5Sclose);
    if (!type.ok() || !space.ok() || H5Sget_simple_extent_type(space) == H5S_NULL) return c;
    c.type = H5Tget_class(type);
    c.any_length = c.type == H5T_STRING && H5Tis_variable_str(type) > 0;
    int rank = H5Sget_simple_extent_ndims(space);
    if (rank < 0 || rank > 2) return c;
    if (rank > 0 && H5Sget_simple_extent_dims(space, c.size, nullptr) < 0) return c;
    c.rank = rank;
    c.stored = H5Dget_storage_size(set);
    return c;
}

bool is_table(hid_t set, const Contents& contents, const std::vector<const char*>& texts, const std::vector<const char*>& numbers, hsize_t most)
{
    if (contents.type != H5T_COMPOUND || contents.rank != 1 || contents.size[0] > most) return false;
    OwnedId type(H5Dget_type(set), H5Tclose);
    auto member = [&](const char* name, auto fits) {
        int k = H5Tget_member_index(type, name);
        if (k < 0) return false;
        OwnedId of(H5Tget_member_type(type, static_cast<unsigned>(k)), H5Tclose);
        return of.ok() && fits(of);
    };
    for (const char* name : texts)
        if (!member(name, is_text)) return false;
    for (const char* name : numbers)
        if (!member(name, is_number)) return false;
    // rows are stored as they are
    return contents.size[0] * H5Tget_size(type) <= contents.stored + 65536;
}

OwnedId column_type()
{
    OwnedId text = text_type();
    OwnedId t(H5Tcreate(H5T_COMPOUND, sizeof(ColumnRow)), H5Tclose);
    H5Tinsert(t, "name", HOFFSET(ColumnRow, name), text);
    H5Tinsert(t, "unit", HOFFSET(ColumnRow, unit), text);
    H5Tinsert(t, "scale", HOFFSET(ColumnRow, scale), H5T_NATIVE_DOUBLE);
    H5Tinsert(t, "offset", HOFFSET(ColumnRow, offset), H5T_NATIVE_DOUBLE);
    H5Tinsert(t, "description", HOFFSET(ColumnRow, description), text);
    H5Tinsert(t, "origin", HOFFSET(ColumnRow, origin), text);
    H5Tinsert(t, "index", HOFFSET(ColumnRow, index), H5T_NATIVE_INT64);
    return t;
}

OwnedId event_type()
{
    OwnedId text = text_type();
    OwnedId t(H5Tcreate(H5T_COMPOUND, sizeof(EventRow)), H5Tclose);
    H5Tinsert(t, "condition", HOFFSET(EventRow, text), text);
    H5Tinsert(t, "part", HOFFSET(EventRow, part), text);
    H5Tinsert(t, "place", HOFFSET(EventRow, place), text);
    H5Tinsert(t, "first", HOFFSET(EventRow, first), H5T_NATIVE_INT64);
    H5Tinsert(t, "count", HOFFSET(EventRow, count), H5T_NATIVE_INT64);
    H5Tinsert(t, "steps_lost", HOFFSET(EventRow, steps_lost), H5T_NATIVE_DOUBLE);
    H5Tinsert(t, "seconds", HOFFSET(EventRow, seconds), H5T_NATIVE_DOUBLE);
    return t;
}

}  // namespace netloop::hdf5
