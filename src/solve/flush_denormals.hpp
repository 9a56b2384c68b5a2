// SPDX-License-Identifier: Apache-2.0
#pragma once

#if defined(__SSE2__)
#include <immintrin.h>
#endif

namespace netloop {

/// While it lives, numbers too small to matter become 0 instead of costing a hundred cycles each.
class FlushDenormals {
public:
#if defined(__SSE2__)
    FlushDenormals() : before_(_mm_getcsr())
    {
        _mm_setcsr(before_ | 0x8040u);
    }
    ~FlushDenormals()
    {
        _mm_setcsr(before_);
    }
    FlushDenormals(const FlushDenormals&) = delete;
    FlushDenormals& operator=(const FlushDenormals&) = delete;

private:
    unsigned before_;
#else
    FlushDenormals() {}
#endif
};

}  // namespace netloop
