#include "base/markup.hpp"

namespace netloop {

std::string markup(std::string_view text)
{
    std::string out;
    for (char c : text) switch (c) {
            case '&':
                out += "&amp;";
                break;
            case '<':
                out += "&lt;";
                break;
            case '>':
                out += "&gt;";
                break;
            case '"':
                out += "&quot;";
                break;
            default:
                if (c == '\n' || c == '\t' || static_cast<unsigned char>(c) >= 32) out += c;
        }
    return out;
}

}  // namespace netloop
