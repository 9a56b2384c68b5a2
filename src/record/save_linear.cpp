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

std::string field(const std::string& text)
{
    if (text.find_first_of(",\"\n") == std::string::npos) return text;
    std::string out = "\"";
    for (char c : text) out += c == '"' ? std::string("\"\"") : std::string(1, c);
    return out + "\"";
}

std::string csv(const LinearModel& m)
{
    auto name = [](const LinearModel::Signal& s) { return field(s.name + " [" + (s.unit.empty() ? "1" : s.unit) + "]"); };
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

bool write_hdf5(const LinearModel& m, const std::string& path)
{
    hdf5::quiet();
    hdf5::OwnedId file(H5Fcreate(path.c_str(), H5F_ACC_TRUNC, H5P_DEFAULT, H5P_DEFAULT), H5Fclose);
    bool ok = file.ok() && hdf5::write_attribute(file, "form", "netloop linear model 1") && hdf5::write_number(file, "time", m.time);
    for (const Named& n : matrices(m)) {
        hsize_t size[2] = {n.matrix->rows, n.matrix->columns};
        hdf5::OwnedId space(H5Screate_simple(2, size, nullptr), H5Sclose);
        hdf5::OwnedId set(ok ? H5Dcreate2(file, n.name, H5T_IEEE_F64LE, space, H5P_DEFAULT, H5P_DEFAULT, H5P_DEFAULT) : -1, H5Dclose);
        ok = ok && set.ok() && (n.matrix->values.empty() || H5Dwrite(set, H5T_NATIVE_DOUBLE, H5S_ALL, H5S_ALL, H5P_DEFAULT, n.matrix->values.data()) >= 0);
    }
    for (const auto& [name, list] : {std::pair{"states", &m.states}, {"inputs", &m.inputs}, {"outputs", &m.outputs}})
        ok = ok && write_names(file, name, *list, false) && write_names(file, std::string(name) + "_units", *list, true);
    return file.reset() && ok;
}

bool write_mat(const LinearModel& m, const std::string& path)
{
    std::unique_ptr<mat_t, int (*)(mat_t*)> file(Mat_CreateVer(path.c_str(), "netloop linear model", MAT_FT_MAT5), Mat_Close);
    if (file == nullptr) return false;
    using Variable = std::unique_ptr<matvar_t, void (*)(matvar_t*)>;
    auto write = [&](matvar_t* made) {
        Variable v(made, Mat_VarFree);
        return v != nullptr && Mat_VarWrite(file.get(), v.get(), MAT_COMPRESSION_NONE) == 0;
    };
    bool ok = true;
    for (const Named& n : matrices(m)) {
        std::vector<double> by_column;
        for (std::size_t k = 0; k < n.matrix->columns; ++k)
            for (std::size_t i = 0; i < n.matrix->rows; ++i) by_column.push_back((*n.matrix)(i, k));
        std::size_t size[2] = {n.matrix->rows, n.matrix->columns};
        double none = 0;
        ok = ok && write(Mat_VarCreate(n.name, MAT_C_DOUBLE, MAT_T_DOUBLE, 2, size, by_column.empty() ? &none : by_column.data(), 0));
    }
    double time = m.time;
    std::size_t one[2] = {1, 1};
    ok = ok && write(Mat_VarCreate("time", MAT_C_DOUBLE, MAT_T_DOUBLE, 2, one, &time, 0));
    for (const auto& [name, list] : {std::pair{"states", &m.states}, {"inputs", &m.inputs}, {"outputs", &m.outputs}})
        for (bool units : {false, true}) {
            std::size_t size[2] = {list->size(), 1};
            Variable cell(Mat_VarCreate((std::string(name) + (units ? "_units" : "")).c_str(), MAT_C_CELL, MAT_T_CELL, 2, size, nullptr, 0), Mat_VarFree);
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

}  // namespace

void LinearModel::save(const std::string& path, const std::vector<std::string>& inputs_of) const
{
    std::string form = std::filesystem::path(path).extension().string();
    OutputRules rules{.what = "a linear model", .inputs = inputs_of};
    if (form == ".json") return write_whole(path, json() + "\n", rules);
    if (form == ".csv") return write_whole(path, csv(*this), rules);
    if (form != ".h5" && form != ".mat") throw RecordingError(fmt::format("'{}': a linear model is written as .json, .csv, .h5 or .mat", path));
    rules.by_name = true;
    OutputFile file(path, rules);
    bool ok = form == ".h5" ? write_hdf5(*this, file.unfinished()) : write_mat(*this, file.unfinished());
    if (!ok) throw RecordingError(fmt::format("'{}' cannot be written", path));
    file.publish();
}

}  // namespace netloop
