// SPDX-License-Identifier: Apache-2.0
#include "netloop/study.hpp"

#include <fmt/format.h>

#include <cmath>

#include "study/study_data.hpp"

namespace netloop {

Study::Study(const Library& library, const std::string& name, const std::vector<std::pair<std::string, std::string>>& set)
    : data_(plan_study(library, name, set))
{
}

const std::string& Study::name() const
{
    return data_->name;
}
const std::string& Study::system() const
{
    return data_->system;
}
const std::string& Study::text() const
{
    return data_->text;
}
const std::vector<StudyColumn>& Study::columns() const
{
    return data_->columns;
}
std::size_t Study::n_runs() const
{
    return data_->n_runs;
}
std::size_t Study::n_left_out() const
{
    return data_->design->size() - data_->n_runs;
}
std::size_t Study::n_structures() const
{
    return data_->structures.size();
}

std::string Study::plan() const
{
    std::string left = n_left_out() > 0 ? fmt::format(", {} of them left out by 'where'", n_left_out()) : "";
    return fmt::format("{}{}: {} run{}", data_->design->text(), left, n_runs(), n_runs() == 1 ? "" : "s");
}

std::vector<double> Study::varied(std::size_t run) const
{
    if (run >= data_->n_runs) throw UsageError(fmt::format("study '{}' has runs 0 to {}, none of number {}", name(), n_runs() - 1, run));
    return data_->shown(data_->point(run));
}

std::string Study::varied_text(std::size_t run) const
{
    std::vector<double> values = varied(run);
    std::string out;
    for (std::size_t f = 0; f < values.size(); ++f)
        if (!std::isnan(values[f])) out += fmt::format("{}{}={}", out.empty() ? "" : ", ", data_->columns[f].name, data_->columns[f].shown(values[f]));
    return out.empty() ? "as it is" : out;
}

}  // namespace netloop
