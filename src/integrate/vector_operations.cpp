// SPDX-License-Identifier: Apache-2.0
#include "integrate/vector_operations.hpp"

#include <algorithm>
#include <cmath>

namespace netloop {
namespace {

double* data(N_Vector v)
{
    return NV_DATA_S(v);
}
sunindextype length(N_Vector v)
{
    return NV_LENGTH_S(v);
}

template <typename F>
void for_each(N_Vector z, F f)
{
    double* out = data(z);
    for (sunindextype i = 0, n = length(z); i < n; ++i) out[i] = f(i);
}

void linear_sum(realtype a, N_Vector x, realtype b, N_Vector y, N_Vector z)
{
    const double *px = data(x), *py = data(y);
    for_each(z, [=](sunindextype i) { return a * px[i] + b * py[i]; });
}
void set_constant(realtype c, N_Vector z)
{
    std::fill_n(data(z), length(z), c);
}
void product(N_Vector x, N_Vector y, N_Vector z)
{
    const double *px = data(x), *py = data(y);
    for_each(z, [=](sunindextype i) { return px[i] * py[i]; });
}
void quotient(N_Vector x, N_Vector y, N_Vector z)
{
    const double *px = data(x), *py = data(y);
    for_each(z, [=](sunindextype i) { return px[i] / py[i]; });
}
void scale(realtype c, N_Vector x, N_Vector z)
{
    const double* px = data(x);
    for_each(z, [=](sunindextype i) { return c * px[i]; });
}
void absolute(N_Vector x, N_Vector z)
{
    const double* px = data(x);
    for_each(z, [=](sunindextype i) { return std::abs(px[i]); });
}
void inverse(N_Vector x, N_Vector z)
{
    const double* px = data(x);
    for_each(z, [=](sunindextype i) { return 1 / px[i]; });
}
void add_constant(N_Vector x, realtype b, N_Vector z)
{
    const double* px = data(x);
    for_each(z, [=](sunindextype i) { return px[i] + b; });
}
realtype dot(N_Vector x, N_Vector y)
{
    const double *px = data(x), *py = data(y);
    double sum = 0;
    for (sunindextype i = 0, n = length(x); i < n; ++i) sum += px[i] * py[i];
    return sum;
}
realtype max_norm(N_Vector x)
{
    const double* px = data(x);
    double most = 0;
    for (sunindextype i = 0, n = length(x); i < n; ++i) most = std::max(most, std::abs(px[i]));
    return most;
}
realtype weighted_rms(N_Vector x, N_Vector w)
{
    const double *px = data(x), *pw = data(w);
    double sum = 0;
    sunindextype n = length(x);
    for (sunindextype i = 0; i < n; ++i) {
        double p = px[i] * pw[i];
        sum += p * p;
    }
    return std::sqrt(sum / static_cast<double>(n));
}
realtype weighted_rms_masked(N_Vector x, N_Vector w, N_Vector id)
{
    const double *px = data(x), *pw = data(w), *pid = data(id);
    double sum = 0;
    sunindextype n = length(x);
    for (sunindextype i = 0; i < n; ++i) {
        double p = pid[i] > 0 ? px[i] * pw[i] : 0;
        sum += p * p;
    }
    return std::sqrt(sum / static_cast<double>(n));
}
realtype least(N_Vector x)
{
    return *std::min_element(data(x), data(x) + length(x));
}
int linear_combination(int count, realtype* c, N_Vector* x, N_Vector z)
{
    double* out = data(z);
    const double* x0 = data(x[0]);
    sunindextype n = length(z);
    for (sunindextype i = 0; i < n; ++i) out[i] = c[0] * x0[i];
    for (int k = 1; k < count; ++k) {
        const double* xk = data(x[k]);
        double ck = c[k];
        for (sunindextype i = 0; i < n; ++i) out[i] += ck * xk[i];
    }
    return 0;
}
int scale_array(int count, realtype* c, N_Vector* x, N_Vector* z)
{
    for (int k = 0; k < count; ++k) scale(c[k], x[k], z[k]);
    return 0;
}

}  // namespace

N_Vector new_fast_vector(sunindextype n, SUNContext context)
{
    N_Vector v = N_VNew_Serial(n, context);
    if (v == nullptr) return v;
    v->ops->nvlinearsum = linear_sum;
    v->ops->nvconst = set_constant;
    v->ops->nvprod = product;
    v->ops->nvdiv = quotient;
    v->ops->nvscale = scale;
    v->ops->nvabs = absolute;
    v->ops->nvinv = inverse;
    v->ops->nvaddconst = add_constant;
    v->ops->nvdotprod = dot;
    v->ops->nvmaxnorm = max_norm;
    v->ops->nvwrmsnorm = weighted_rms;
    v->ops->nvwrmsnormmask = weighted_rms_masked;
    v->ops->nvmin = least;
    v->ops->nvlinearcombination = linear_combination;
    v->ops->nvscalevectorarray = scale_array;
    return v;
}

}  // namespace netloop
