// SPDX-License-Identifier: Apache-2.0
// An own operations table for SUNDIALS' serial vector: Debian builds its kernels without optimisation.
#pragma once

#include <nvector/nvector_serial.h>

namespace netloop {

/// A serial vector of n numbers whose kernels are ours; clones inherit them.
N_Vector new_fast_vector(sunindextype n, SUNContext context);

}  // namespace netloop
