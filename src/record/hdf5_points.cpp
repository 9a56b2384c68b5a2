// SPDX-License-Identifier: Apache-2.0
#include "record/hdf5_points.hpp"

#include <algorithm>
#include <cmath>
#include <string>

namespace netloop::hdf5 {
namespace {

constexpr hsize_t kMostPoints = 1000000, kMostNames = 10000000;

template <typename T>
bool write_list(hid_t group, const char* name, hid_t stored, hid_t given, const std::vector<hsize_t>& size, const std::vector<T>& values)
{
    OwnedId space(H5Screate_simple(static_cast<int>(size.size()), size.data(), nullptr), H5Sclose), create(H5Pcreate(H5P_DATASET_CREATE), H5Pclose);
    bool any = std::all_of(size.begin(), size.end(), [](hsize_t n) { return n > 0; });
    if (any) {
        std::vector<hsize_t> chunk = size;
        for (hsize_t& n : chunk) n = std::min<hsize_t>(n, 1024);
        H5Pset_chunk(create, static_cast<int>(chunk.size()), chunk.data());
        H5Pset_shuffle(create);
        H5Pset_deflate(create, 1);
    }
    OwnedId set(H5Dcreate2(group, name, stored, space, H5P_DEFAULT, create, H5P_DEFAULT), H5Dclose);
    return set.ok() && (!any || H5Dwrite(set, given, H5S_ALL, H5S_ALL, H5P_DEFAULT, values.data()) >= 0);
}

bool write_names(hid_t group, const std::vector<std::string>& names)
{
    std::vector<const char*> texts;
    for (const std::string& n : names) texts.push_back(n.c_str());
    hsize_t n = texts.size();
    OwnedId type = text_type(), space(H5Screate_simple(1, &n, nullptr), H5Sclose);
    OwnedId set(H5Dcreate2(group, "names", type, space, H5P_DEFAULT, H5P_DEFAULT, H5P_DEFAULT), H5Dclose);
    return set.ok() && (texts.empty() || H5Dwrite(set, type, H5S_ALL, H5S_ALL, H5P_DEFAULT, texts.data()) >= 0);
}

// Numbers of a data set of this rank; false if it is none, or says that it holds more than is stored.
template <typename T>
bool read_list(hid_t group, const char* name, int rank, hid_t as, hsize_t* size, std::vector<T>& values)
{
    if (!has(group, name)) return false;
    OwnedId set(H5Dopen2(group, name, H5P_DEFAULT), H5Dclose);
    if (!set.ok()) return false;
    Contents c = contents_of(set);
    if (!c.numbers() || c.rank != rank || !c.holds_numbers()) return false;
    std::copy_n(c.size, rank, size);
    values.resize(c.n());
    return values.empty() || H5Dread(set, as, H5S_ALL, H5S_ALL, H5P_DEFAULT, values.data()) >= 0;
}

bool read_names(hid_t group, std::vector<std::string>& names)
{
    if (!has(group, "names")) return false;
    OwnedId set(H5Dopen2(group, "names", H5P_DEFAULT), H5Dclose);
    if (!set.ok()) return false;
    Contents c = contents_of(set);
    constexpr hsize_t kReference = 8;  // bytes of each at least, where it is stored
    if (c.type != H5T_STRING || !c.any_length || c.rank != 1 || c.size[0] > kMostNames || c.size[0] * kReference > c.stored) return false;
    OwnedId type = text_type(), space(H5Dget_space(set), H5Sclose);
    std::vector<char*> texts(c.size[0], nullptr);
    if (texts.empty()) return true;
    if (H5Dread(set, type, H5S_ALL, H5S_ALL, H5P_DEFAULT, texts.data()) < 0) return false;
    for (const char* t : texts) names.emplace_back(t == nullptr ? "" : t);
    H5Dvlen_reclaim(type, space, H5P_DEFAULT, texts.data());
    return true;
}

bool read_layout(hid_t group, std::vector<RunPoint>& points)
{
    auto layout = std::make_shared<RunPoint::Layout>();
    hsize_t n = 0, n_points = 0, table[2] = {0, 0}, n_past = 0, n_starts = 0;
    std::vector<double> times, values, past;
    std::vector<std::uint64_t> starts;
    if (!read_names(group, layout->names) || !read_list(group, "index", 1, H5T_NATIVE_UINT32, &n, layout->index) || n != layout->names.size()) return false;
    if (!read_list(group, "sign", 1, H5T_NATIVE_DOUBLE, &n, layout->sign) || n != layout->names.size()) return false;
    if (!read_list(group, "time", 1, H5T_NATIVE_DOUBLE, &n_points, times) || n_points > kMostPoints) return false;
    if (!read_list(group, "values", 2, H5T_NATIVE_DOUBLE, table, values) || table[0] != n_points || table[1] < layout->n_values()) return false;
    if (!read_list(group, "past", 1, H5T_NATIVE_DOUBLE, &n_past, past) || !read_list(group, "past_starts", 1, H5T_NATIVE_UINT64, &n_starts, starts))
        return false;
    if (n_starts != n_points + 1 || starts.back() != n_past || !std::is_sorted(starts.begin(), starts.end())) return false;
    for (std::size_t k = 0; k < n_points; ++k) {
        if (!std::isfinite(times[k])) return false;
        auto row = values.begin() + static_cast<std::ptrdiff_t>(k * table[1]), from = past.begin();
        points.push_back({times[k], layout, std::vector<double>(row, row + static_cast<std::ptrdiff_t>(table[1])),
                          std::vector<double>(from + static_cast<std::ptrdiff_t>(starts[k]), from + static_cast<std::ptrdiff_t>(starts[k + 1]))});
    }
    return true;
}

}  // namespace

bool write_points(hid_t file, const std::vector<RunPoint>& points)
{
    if (points.empty()) return true;
    OwnedId all(H5Gcreate2(file, "points", H5P_DEFAULT, H5P_DEFAULT, H5P_DEFAULT), H5Gclose);
    bool ok = all.ok();
    std::vector<const RunPoint::Layout*> layouts;
    for (const RunPoint& p : points)
        if (std::find(layouts.begin(), layouts.end(), p.layout.get()) == layouts.end()) layouts.push_back(p.layout.get());
    for (std::size_t l = 0; l < layouts.size() && ok; ++l) {
        const RunPoint::Layout& layout = *layouts[l];
        std::vector<double> times, values, past;
        std::vector<std::uint64_t> starts{0};
        const std::size_t width = layout.n_values();
        for (const RunPoint& p : points) {
            if (p.layout.get() != &layout || p.values.size() < width) continue;
            times.push_back(p.time);
            values.insert(values.end(), p.values.begin(), p.values.begin() + static_cast<std::ptrdiff_t>(width));
            past.insert(past.end(), p.past.begin(), p.past.end());
            starts.push_back(past.size());
        }
        OwnedId group(H5Gcreate2(all, std::to_string(l).c_str(), H5P_DEFAULT, H5P_DEFAULT, H5P_DEFAULT), H5Gclose);
        ok = group.ok() && write_names(group, layout.names) &&
             write_list(group, "index", H5T_STD_U32LE, H5T_NATIVE_UINT32, {layout.index.size()}, layout.index) &&
             write_list(group, "sign", H5T_IEEE_F64LE, H5T_NATIVE_DOUBLE, {layout.sign.size()}, layout.sign) &&
             write_list(group, "time", H5T_IEEE_F64LE, H5T_NATIVE_DOUBLE, {times.size()}, times) &&
             write_list(group, "values", H5T_IEEE_F64LE, H5T_NATIVE_DOUBLE, {times.size(), width}, values) &&
             write_list(group, "past", H5T_IEEE_F64LE, H5T_NATIVE_DOUBLE, {past.size()}, past) &&
             write_list(group, "past_starts", H5T_STD_U64LE, H5T_NATIVE_UINT64, {starts.size()}, starts);
    }
    return ok;
}

std::vector<RunPoint> read_points(hid_t file)
{
    std::vector<RunPoint> points;
    if (!has(file, "points")) return points;
    OwnedId all(H5Gopen2(file, "points", H5P_DEFAULT), H5Gclose);
    constexpr std::size_t kMostLayouts = 100000;
    for (std::size_t l = 0; l < kMostLayouts && all.ok(); ++l) {
        std::string name = std::to_string(l);
        if (!has(all, name.c_str())) break;
        OwnedId group(H5Gopen2(all, name.c_str(), H5P_DEFAULT), H5Gclose);
        std::vector<RunPoint> of_layout;
        if (group.ok() && read_layout(group, of_layout)) points.insert(points.end(), of_layout.begin(), of_layout.end());
    }
    std::stable_sort(points.begin(), points.end(), [](const RunPoint& a, const RunPoint& b) { return a.time < b.time; });
    return points;
}

}  // namespace netloop::hdf5
