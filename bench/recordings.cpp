// SPDX-License-Identifier: Apache-2.0
// What recording costs, what the layouts of a table on disk cost, and how fast a large recording opens and is plotted.
//   build/release/bench/netloop_recordings [megabytes of the large one, default 1000]
#include <fmt/format.h>
#include <hdf5.h>
#include <netloop/netloop.hpp>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <cstdlib>
#include <filesystem>
#include <functional>

#include "figures/plot.hpp"
#include "verified.hpp"

namespace fs = std::filesystem;

namespace {

double seconds(const std::function<void()>& work)
{
    auto start = std::chrono::steady_clock::now();
    work();
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}

double median(std::vector<double> v)
{
    std::sort(v.begin(), v.end());
    return v[v.size() / 2];
}

std::string file_in(const std::string& name)
{
    return (fs::temp_directory_path() / ("netloop_bench_" + name)).string();
}

// 1,000 quantities in rows of hydraulic lines: volumes and orifices behind a pump whose flow swings.
std::string lines(int cells)
{
    return fmt::format(R"(use hydraulics, fluids
system Lines {{
    option n = {}
    fluid iso46 = MineralOil(grade = 46 cSt)
    part source : FlowSource(oil = iso46)
    3 L/min * (1 + 0.5 * sin(time / 0.2 s)) -> source.flow
    part tank : Tank(oil = iso46)
    part choke[n] : Orifice(diameter = 3 mm)
    part volume[n] : Volume(volume = 0.2 L)
    source.outlet -- choke[1].inlet
    for i in 1 .. n - 1 {{ choke[i].outlet -- volume[i].a ; volume[i].b -- choke[i+1].inlet }}
    choke[n].outlet -- volume[n].a
    volume[n].b -- tank.outlet
}}
)",
                       cells);
}

void cost(const std::string& what, const netloop::CompiledSystem& system, netloop::RunOptions options)
{
    options.in_memory = false;
    netloop::run_verified(system, options);
    std::vector<double> with, without, csv;
    std::string h5 = file_in("cost.h5"), text = file_in("cost.csv");
    std::size_t rows = 0, columns = 0;
    for (int k = 0; k < 9; ++k) {
        auto once = [&](const std::string& out) {
            options.out = out;
            netloop::Run run(system);
            double t = seconds([&] { run.simulate(options); });
            rows = run.summary().rows;
            columns = run.recording().columns.size();
            return t;
        };
        without.push_back(once(""));
        with.push_back(once(h5));
        if (k < 3) csv.push_back(once(text));
    }
    fmt::print("| {} | {} x {} | {:.3f} s | {:.3f} s | {:+.1f} % | {:.1f} MB of {:.1f} MB | {:.2f} s |\n", what, rows, columns, median(without), median(with),
               100 * (median(with) / median(without) - 1), static_cast<double>(fs::file_size(h5)) / 1e6, static_cast<double>(rows * columns) * 8 / 1e6,
               median(csv));
    fs::remove(h5);
    fs::remove(text);
}

struct Layout {
    const char* what;
    hsize_t rows, columns;  ///< of a chunk; 0 columns: a data set for each column
    int deflate;
};

// A table through HDF5's own filters in blocks of 1,024 rows; then one column read back.
void layout(const Layout& l, const std::vector<double>& table, hsize_t rows, hsize_t columns)
{
    std::string path = file_in("layout.h5");
    double write = seconds([&] {
        hid_t access = H5Pcreate(H5P_FILE_ACCESS);
        H5Pset_libver_bounds(access, H5F_LIBVER_LATEST, H5F_LIBVER_LATEST);
        hid_t file = H5Fcreate(path.c_str(), H5F_ACC_TRUNC, H5P_DEFAULT, access);
        bool each = l.columns == 0;
        hsize_t size[2] = {rows, each ? 1 : columns}, most[2] = {H5S_UNLIMITED, size[1]}, chunk[2] = {l.rows, each ? 1 : l.columns};
        hid_t create = H5Pcreate(H5P_DATASET_CREATE), space = H5Screate_simple(2, size, most);
        H5Pset_chunk(create, 2, chunk);
        if (l.deflate > 0) H5Pset_shuffle(create), H5Pset_deflate(create, static_cast<unsigned>(l.deflate));
        std::vector<hid_t> sets;
        for (hsize_t k = 0; k < (each ? columns : 1); ++k)
            sets.push_back(H5Dcreate2(file, fmt::format("values{}", k).c_str(), H5T_NATIVE_DOUBLE, space, H5P_DEFAULT, create, H5P_DEFAULT));
        std::vector<double> one(1024);
        for (hsize_t r = 0; r < rows; r += 1024) {
            hsize_t n = std::min<hsize_t>(1024, rows - r), at[2] = {r, 0}, count[2] = {n, size[1]};
            hid_t memory = H5Screate_simple(2, count, nullptr);
            H5Sselect_hyperslab(space, H5S_SELECT_SET, at, nullptr, count, nullptr);
            for (std::size_t k = 0; k < sets.size(); ++k) {
                const double* from = table.data() + r * columns;
                if (each) {
                    for (hsize_t i = 0; i < n; ++i) one[i] = from[i * columns + k];
                    from = one.data();
                }
                H5Dwrite(sets[k], H5T_NATIVE_DOUBLE, memory, space, H5P_DEFAULT, from);
            }
            H5Sclose(memory);
        }
        for (hid_t s : sets) H5Dclose(s);
        H5Sclose(space);
        H5Pclose(create);
        H5Pclose(access);
        H5Fclose(file);
    });
    double read = seconds([&] {
        hid_t file = H5Fopen(path.c_str(), H5F_ACC_RDONLY, H5P_DEFAULT);
        hid_t set = H5Dopen2(file, l.columns == 0 ? fmt::format("values{}", columns / 2).c_str() : "values0", H5P_DEFAULT);
        hid_t space = H5Dget_space(set);
        hsize_t at[2] = {0, l.columns == 0 ? 0 : columns / 2}, count[2] = {rows, 1};
        H5Sselect_hyperslab(space, H5S_SELECT_SET, at, nullptr, count, nullptr);
        hid_t memory = H5Screate_simple(1, count, nullptr);
        std::vector<double> column(rows);
        H5Dread(set, H5T_NATIVE_DOUBLE, memory, space, H5P_DEFAULT, column.data());
        for (hid_t s : {memory, space}) H5Sclose(s);
        H5Dclose(set);
        H5Fclose(file);
    });
    fmt::print("| {} | {:.2f} s | {:.1f} MB | {:.1f} ms |\n", l.what, write, static_cast<double>(fs::file_size(path)) / 1e6, 1e3 * read);
    fs::remove(path);
}

}  // namespace

int main(int argc, char** argv)
{
    double megabytes = argc > 1 ? std::atof(argv[1]) : 1000;
    netloop::Library library = netloop::Library::standard();
    library.load_text("lines.loop", lines(30));
    netloop::CompiledSystem system = netloop::compile(library);
    fmt::print("| recording | rows x quantities | run alone | recorded (.h5) | cost | file | recorded (.csv) |\n| --- | --- | --- | --- | --- | --- | --- |\n");
    netloop::RunOptions options;
    options.stop = 20;
    options.output_every = 2e-3;
    cost("line of volumes and orifices", system, options);
    netloop::Library whole = netloop::Library::standard();
    whole.load_file(NETLOOP_SOURCE_DIR "/examples/bascule/whole/bridge.loop");
    netloop::CompileRequest calm;
    calm.scenario = "calm_day";
    cost("the whole bridge, calm_day", netloop::compile(whole, calm), {});
    netloop::RunOptions all;
    all.keep = {"*"};
    cost("the whole bridge, every quantity kept", netloop::compile(whole, calm), all);

    std::string path = file_in("bridge.h5");
    {
        netloop::Run run(netloop::compile(whole, calm));
        netloop::RunOptions o;
        o.out = path;
        run.simulate(o);
    }
    netloop::Recording bridge = netloop::Recording::load(path);
    hsize_t rows = bridge.n_rows(), columns = bridge.columns.size();
    std::vector<double> table(rows * columns);
    for (hsize_t r = 0; r < rows; ++r)
        for (hsize_t c = 0; c < columns; ++c) table[r * columns + c] = bridge.columns[c].values[r];
    fmt::print("\n| layout of {} rows x {} columns of the bridge | write, one thread | file | read one column |\n| --- | --- | --- | --- |\n", rows, columns);
    for (const Layout& l : {Layout{"chunks of 256 rows x 32 columns", 256, 32, 0}, Layout{"the same, shuffled and deflated (1)", 256, 32, 1},
                            Layout{"chunks of 1,024 rows of one column", 1024, 1, 0}, Layout{"the same, shuffled and deflated (1)", 1024, 1, 1},
                            Layout{"chunks of 4,096 rows of one column, shuffled and deflated (1)", 4096, 1, 1}, Layout{"the same, deflated (6)", 4096, 1, 6},
                            Layout{"a data set a column, chunks of 1,024 rows, deflated (1)", 1024, 0, 1}})
        layout(l, table, rows, columns);

    netloop::Recording large;
    large.system = "Large";
    large.columns = bridge.columns;
    large.columns.resize(std::min<std::size_t>(large.columns.size(), 200));
    auto times = static_cast<std::size_t>(megabytes * 1e6 / 8 / static_cast<double>(large.columns.size() * rows)) + 1;
    double span = bridge.time().final();
    for (netloop::Column& c : large.columns) {
        std::vector<double> once = c.values;
        c.values.clear();
        for (std::size_t k = 0; k < times; ++k)
            for (std::size_t r = 0; r < once.size(); ++r)  // noise in the last digits: no two periods are packed alike
                c.values.push_back(c.name == "time" ? once[r] + static_cast<double>(k) * span : once[r] * (1 + 1e-9 * std::sin(static_cast<double>(r * k))));
    }
    large.save(path);
    std::string picture = file_in("large.png"), quantity = large.columns.back().name;
    auto numbers = static_cast<double>(large.n_rows() * large.columns.size());
    large = {};
    std::vector<double> open, whole_way;
    for (int k = 0; k < 5; ++k) {
        open.push_back(seconds([&] { netloop::Recording::open(path); }));
        whole_way.push_back(seconds([&] {
            std::vector<netloop::Recording> r{netloop::Recording::open(path)};
            netloop::plot(r, {"large"}, {.quantities = {quantity}, .against = "", .title = "", .out = picture});
        }));
    }
    fmt::print("\na recording of {:.2f} GB of numbers ({:.2f} GB on disk): opened in {:.0f} ms, opened and one quantity plotted in {:.2f} s\n",
               numbers * 8 / 1e9, static_cast<double>(fs::file_size(path)) / 1e9, 1e3 * median(open), median(whole_way));
    fs::remove(path);
    fs::remove(picture);
    return 0;
}
