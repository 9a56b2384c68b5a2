// SPDX-License-Identifier: Apache-2.0
#include "base/markup.hpp"

namespace netloop {

std::size_t first_bad_byte(std::string_view text)
{
    for (std::size_t i = 0; i < text.size();) {
        auto c = static_cast<unsigned char>(text[i]);
        std::size_t n = c == 0 ? 0 : c < 0x80 ? 1 : c >= 0xc2 && c < 0xe0 ? 2 : c >= 0xe0 && c < 0xf0 ? 3 : c >= 0xf0 && c < 0xf5 ? 4 : 0;
        if (n == 0 || i + n > text.size()) return i;
        // RFC 3629: the shortest form only, no halves of pairs, nothing beyond U+10FFFF
        auto second = n > 1 ? static_cast<unsigned char>(text[i + 1]) : 0;
        if ((c == 0xe0 && second < 0xa0) || (c == 0xed && second > 0x9f) || (c == 0xf0 && second < 0x90) || (c == 0xf4 && second > 0x8f)) return i;
        for (std::size_t k = 1; k < n; ++k)
            if ((static_cast<unsigned char>(text[i + k]) & 0xc0u) != 0x80u) return i;
        i += n;
    }
    return std::string_view::npos;
}

std::string markup(std::string_view text)
{
    std::string out;
    // what is no UTF-8 would make the whole page or file unreadable
    for (std::size_t bad = first_bad_byte(text); bad != std::string_view::npos; bad = first_bad_byte(text)) {
        if (text[bad] != '\0')
            out += markup(text.substr(0, bad)) + "\xef\xbf\xbd";
        else
            out += markup(text.substr(0, bad));
        text.remove_prefix(bad + 1);
    }
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
