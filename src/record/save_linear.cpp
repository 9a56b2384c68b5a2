// SPDX-License-Identifier: Apache-2.0
// Linear models as files: JSON, CSV, HDF5 and level-5 matrix files.
#include <fmt/format.h>
#include <matio.h>

#include <filesystem>
#include <memory>

#include "files/output_file.hpp"
#include "netloop/linear_model.hpp"
#include "netloop/recording.hpp"
#include "record/hdf5.hpp"

namespace netloop {
namespace {

struct Named {
    const char* name;
    const Matrix* matrix;
    const std::vector<LinearModel::Signal>*rows, *columns;
};

std::vector<Named> matrices(const LinearModel& m)
{
    std::vector<Named> list{
        {"A", &m.a, &m.states, &m.states}, {"B", &m.b, &m.states, &m.inputs}, {"C", &m.c, &m.outputs, &m.states}, {"D", &m.d, &m.outputs, &m.inputs}};
    if (!m.e.values.empty()) list.push_back({"E", &m.e, &m.outputs, &m.inputs});
    if (!m.e2.values.empty()) list.push_back({"E2", &m.e2, &m.outputs, &m.inputs});
    return list;
}

struct NamedSparse {
    const char* name;
    const SparseMatrix* matrix;
};

std::vector<NamedSparse> matrices(const DescriptorModel& m)
{
    return {{"E", &m.e}, {"A", &m.a}, {"B", &m.b}, {"C", &m.c}, {"D", &m.d}};
}

using Lists = std::vector<std::pair<const char*, const std::vector<LinearModel::Signal>*>>;
Lists lists(const LinearModel& m)
{
    return {{"states", &m.states}, {"inputs", &m.inputs}, {"outputs", &m.outputs}};
}
Lists lists(const DescriptorModel& m)
{
    return {{"unknowns", &m.unknowns}, {"inputs", &m.inputs}, {"outputs", &m.outputs}};
}

std::string field(const std::string& text)
{
    if (text.find_first_of(",\"\n") == std::string::npos) return text;
    std::string out = "\"";
    for (char c : text) out += c == '"' ? std::string("\"\"") : std::string(1, c);
    return out + "\"";
}

std::string name(const LinearModel::Signal& s)
{
    return field(s.name + " [" + (s.unit.empty() ? "1" : s.unit) + "]");
}

// A row for each number; what the rows and columns of the matrices are stands before.
std::string csv(const DescriptorModel& m)
{
    std::string out = "list,number,name\n";
    for (const auto& [what, list] : lists(m))
        for (std::size_t k = 0; k < list->size(); ++k) out += fmt::format("{},{},{}\n", what, k, name((*list)[k]));
    out += "\nmatrix,row,column,value\n";
    for (const NamedSparse& n : matrices(m))
        for (std::size_t k = 0; k < n.matrix->value.size(); ++k)
            out += fmt::format("{},{},{},{:.17g}\n", n.name, n.matrix->row[k], n.matrix->column[k], n.matrix->value[k]);
    return out;
}

std::string csv(const LinearModel& m)
{
    std::string out;
    for (const Named& n : matrices(m)) {
        out += n.name;
        for (const LinearModel::Signal& s : *n.columns) out += "," + name(s);
        out += "\n";
        for (std::size_t i = 0; i < n.matrix->rows; ++i) {
            out += name((*n.rows)[i]);
            for (std::size_t k = 0; k < n.matrix->columns; ++k) out += fmt::format(",{:.17g}", (*n.matrix)(i, k));
            out += "\n";
        }
        out += "\n";
    }
    return out;
}

bool write_names(hid_t file, const std::string& name, const std::vector<LinearModel::Signal>& list, bool units)
{
    std::vector<const char*> texts;
    for (const LinearModel::Signal& s : list) texts.push_back(units ? s.unit.c_str() : s.name.c_str());
    hsize_t size = texts.size();
    hdf5::OwnedId type = hdf5::text_type(), space(H5Screate_simple(1, &size, nullptr), H5Sclose);
    hdf5::OwnedId set(H5Dcreate2(file, name.c_str(), type, space, H5P_DEFAULT, H5P_DEFAULT, H5P_DEFAULT), H5Dclose);
    return set.ok() && (texts.empty() || H5Dwrite(set, type, H5S_ALL, H5S_ALL, H5P_DEFAULT, texts.data()) >= 0);
}

template <typename T>
bool write_numbers(hid_t to, const char* name, hid_t stored, hid_t given, const std::vector<hsize_t>& size, const std::vector<T>& values)
{
    hdf5::OwnedId space(H5Screate_simple(static_cast<int>(size.size()), size.data(), nullptr), H5Sclose);
    hdf5::OwnedId set(H5Dcreate2(to, name, stored, space, H5P_DEFAULT, H5P_DEFAULT, H5P_DEFAULT), H5Dclose);
    return set.ok() && (values.empty() || H5Dwrite(set, given, H5S_ALL, H5S_ALL, H5P_DEFAULT, values.data()) >= 0);
}

bool write_matrices(hid_t file, const LinearModel& m)
{
    bool ok = true;
    for (const Named& n : matrices(m))
        ok = ok && write_numbers(file, n.name, H5T_IEEE_F64LE, H5T_NATIVE_DOUBLE, {n.matrix->rows, n.matrix->columns}, n.matrix->values);
    return ok;
}

bool write_matrices(hid_t file, const DescriptorModel& m)
{
    bool ok = true;
    for (const NamedSparse& n : matrices(m)) {
        hdf5::OwnedId group(H5Gcreate2(file, n.name, H5P_DEFAULT, H5P_DEFAULT, H5P_DEFAULT), H5Gclose);
        const SparseMatrix& s = *n.matrix;
        std::vector<hsize_t> size{s.value.size()};
        ok = ok && group.ok() && hdf5::write_number(group, "rows", static_cast<double>(s.rows)) &&
             hdf5::write_number(group, "columns", static_cast<double>(s.columns)) &&
             write_numbers(group, "row", H5T_STD_U32LE, H5T_NATIVE_UINT32, size, s.row) &&
             write_numbers(group, "column", H5T_STD_U32LE, H5T_NATIVE_UINT32, size, s.column) &&
             write_numbers(group, "value", H5T_IEEE_F64LE, H5T_NATIVE_DOUBLE, size, s.value);
    }
    return ok;
}

template <typename Model>
bool write_hdf5(const Model& m, const char* what, const std::string& path)
{
    hdf5::quiet();
    hdf5::OwnedId file(H5Fcreate(path.c_str(), H5F_ACC_TRUNC, H5P_DEFAULT, H5P_DEFAULT), H5Fclose);
    bool ok = file.ok() && hdf5::write_attribute(file, "form", what) && hdf5::write_number(file, "time", m.time) && write_matrices(file, m);
    for (const auto& [list_name, list] : lists(m))
        ok = ok && write_names(file, list_name, *list, false) && write_names(file, std::string(list_name) + "_units", *list, true);
    return file.reset() && ok;
}

using MatVariable = std::unique_ptr<matvar_t, void (*)(matvar_t*)>;

bool write_variable(mat_t* file, matvar_t* made)
{
    MatVariable v(made, Mat_VarFree);
    return v != nullptr && Mat_VarWrite(file, v.get(), MAT_COMPRESSION_NONE) == 0;
}

bool write_matrices(mat_t* file, const LinearModel& m)
{
    bool ok = true;
    for (const Named& n : matrices(m)) {
        std::vector<double> by_column;
        for (std::size_t k = 0; k < n.matrix->columns; ++k)
            for (std::size_t i = 0; i < n.matrix->rows; ++i) by_column.push_back((*n.matrix)(i, k));
        std::size_t size[2] = {n.matrix->rows, n.matrix->columns};
        double none = 0;
        ok = ok && write_variable(file, Mat_VarCreate(n.name, MAT_C_DOUBLE, MAT_T_DOUBLE, 2, size, by_column.empty() ? &none : by_column.data(), 0));
    }
    return ok;
}

bool write_matrices(mat_t* file, const DescriptorModel& m)
{
    bool ok = true;
    for (const NamedSparse& n : matrices(m)) {
        const SparseMatrix& s = *n.matrix;
        std::vector<mat_uint32_t> rows(s.row.begin(), s.row.end()), starts(s.columns + 1, 0);
        for (std::uint32_t c : s.column) ++starts[c + 1];
        for (std::size_t c = 0; c < s.columns; ++c) starts[c + 1] += starts[c];
        std::vector<double> values = s.value;
        rows.reserve(1), values.reserve(1);  // where there are none a place is asked for all the same
        mat_sparse_t sparse{};
        sparse.nzmax = sparse.ndata = static_cast<mat_uint32_t>(values.size());
        sparse.nir = static_cast<mat_uint32_t>(rows.size()), sparse.ir = rows.data();
        sparse.njc = static_cast<mat_uint32_t>(starts.size()), sparse.jc = starts.data();
        sparse.data = values.data();
        std::size_t size[2] = {s.rows, s.columns};
        ok = ok && write_variable(file, Mat_VarCreate(n.name, MAT_C_SPARSE, MAT_T_DOUBLE, 2, size, &sparse, 0));
    }
    return ok;
}

template <typename Model>
bool write_mat(const Model& m, const std::string& path)
{
    std::unique_ptr<mat_t, int (*)(mat_t*)> file(Mat_CreateVer(path.c_str(), "netloop linear model", MAT_FT_MAT5), Mat_Close);
    if (file == nullptr) return false;
    bool ok = write_matrices(file.get(), m);
    double time = m.time;
    std::size_t one[2] = {1, 1};
    ok = ok && write_variable(file.get(), Mat_VarCreate("time", MAT_C_DOUBLE, MAT_T_DOUBLE, 2, one, &time, 0));
    for (const auto& [list_name, list] : lists(m))
        for (bool units : {false, true}) {
            std::size_t size[2] = {list->size(), 1};
            MatVariable cell(Mat_VarCreate((std::string(list_name) + (units ? "_units" : "")).c_str(), MAT_C_CELL, MAT_T_CELL, 2, size, nullptr, 0),
                             Mat_VarFree);
            for (std::size_t k = 0; cell != nullptr && k < list->size(); ++k) {
                std::string text = units ? (*list)[k].unit : (*list)[k].name;
                if (text.empty()) text = "1";
                std::size_t length[2] = {1, text.size()};
                Mat_VarSetCell(cell.get(), static_cast<int>(k), Mat_VarCreate(nullptr, MAT_C_CHAR, MAT_T_UTF8, 2, length, text.data(), 0));
            }
            ok = ok && cell != nullptr && Mat_VarWrite(file.get(), cell.get(), MAT_COMPRESSION_NONE) == 0;
        }
    return ok;
}

template <typename Model>
void write_model(const Model& m, const char* form_of_hdf5, const std::string& path, const std::vector<std::string>& inputs_of)
{
    std::string form = std::filesystem::path(path).extension().string();
    OutputRules rules{.what = "a linear model", .inputs = inputs_of};
    if (form == ".json") return write_whole(path, m.json() + "\n", rules);
    if (form == ".csv") return write_whole(path, csv(m), rules);
    if (form != ".h5" && form != ".mat") throw RecordingError(fmt::format("'{}': a linear model is written as .json, .csv, .h5 or .mat", path));
    rules.by_name = true;
    OutputFile file(path, rules);
    bool ok = form == ".h5" ? write_hdf5(m, form_of_hdf5, file.unfinished()) : write_mat(m, file.unfinished());
    if (!ok) throw RecordingError(fmt::format("'{}' cannot be written", path));
    file.publish();
}

}  // namespace

void LinearModel::save(const std::string& path, const std::vector<std::string>& inputs_of) const
{
    write_model(*this, "netloop linear model 1", path, inputs_of);
}

void DescriptorModel::save(const std::string& path, const std::vector<std::string>& inputs_of) const
{
    write_model(*this, "netloop sparse linear model 1", path, inputs_of);
}

}  // namespace netloop
