// SPDX-License-Identifier: Apache-2.0
#include "study/junit.hpp"

#include <fmt/format.h>

#include "base/markup.hpp"

namespace netloop {
namespace {
std::string element(const char* name, const std::string& text)
{
    return fmt::format("    <{0} message=\"{1}\">{2}</{0}>\n", name, markup(text.substr(0, text.find('\n'))), markup(text));
}
}  // namespace

std::string junit_text(const std::string& suite, const std::vector<JunitCase>& cases)
{
    std::string body;
    std::size_t failures = 0, errors = 0;
    double seconds = 0;
    for (const JunitCase& c : cases) {
        seconds += c.seconds;
        body += fmt::format("  <testcase classname=\"{}\" name=\"{}\" time=\"{:.3f}\">\n", markup(c.group), markup(c.name), c.seconds);
        if (!c.error.empty()) {
            ++errors;
            body += element("error", c.error);
        } else if (!c.failure.empty()) {
            ++failures;
            body += element("failure", c.failure);
        }
        if (!c.output.empty()) body += fmt::format("    <system-out>{}</system-out>\n", markup(c.output));
        body += "  </testcase>\n";
    }
    return "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n" +
           fmt::format("<testsuite name=\"{}\" tests=\"{}\" failures=\"{}\" errors=\"{}\" time=\"{:.3f}\">\n", markup(suite), cases.size(), failures, errors,
                       seconds) +
           body + "</testsuite>\n";
}

}  // namespace netloop
