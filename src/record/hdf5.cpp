#include "record/hdf5.hpp"

namespace netloop::hdf5 {

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

bool has(hid_t file, const char* name)
{
    return H5Lexists(file, name, H5P_DEFAULT) > 0;
}

bool write_attribute(hid_t at, const char* name, const std::string& text)
{
    Handle type = text_type(), space(H5Screate(H5S_SCALAR), H5Sclose);
    Handle a(H5Acreate2(at, name, type, space, H5P_DEFAULT, H5P_DEFAULT), H5Aclose);
    const char* value = text.c_str();
    return a.ok() && H5Awrite(a, type, &value) >= 0;
}

bool write_number(hid_t at, const char* name, double value)
{
    Handle space(H5Screate(H5S_SCALAR), H5Sclose);
    Handle a(H5Acreate2(at, name, H5T_NATIVE_DOUBLE, space, H5P_DEFAULT, H5P_DEFAULT), H5Aclose);
    return a.ok() && H5Awrite(a, H5T_NATIVE_DOUBLE, &value) >= 0;
}

bool write_text(hid_t file, const char* name, const std::string& text)
{
    Handle type = text_type(), space(H5Screate(H5S_SCALAR), H5Sclose);
    Handle set(H5Dcreate2(file, name, type, space, H5P_DEFAULT, H5P_DEFAULT, H5P_DEFAULT), H5Dclose);
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

std::string read_attribute(hid_t at, const char* name)
{
    Handle a(H5Aopen(at, name, H5P_DEFAULT), H5Aclose), type = text_type();
    char* value = nullptr;
    return a.ok() && H5Aread(a, type, &value) >= 0 ? taken(value) : "";
}

double read_number(hid_t at, const char* name)
{
    Handle a(H5Aopen(at, name, H5P_DEFAULT), H5Aclose);
    double value = 0;
    if (a.ok()) H5Aread(a, H5T_NATIVE_DOUBLE, &value);
    return value;
}

std::string read_text(hid_t file, const char* name)
{
    if (!has(file, name)) return {};
    Handle set(H5Dopen2(file, name, H5P_DEFAULT), H5Dclose), type = text_type();
    char* value = nullptr;
    return set.ok() && H5Dread(set, type, H5S_ALL, H5S_ALL, H5P_DEFAULT, &value) >= 0 ? taken(value) : "";
}

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

}  // namespace netloop::hdf5
