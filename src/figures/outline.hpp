// SPDX-License-Identifier: Apache-2.0
// What is seen of a curve on so many pixels: far fewer points than were recorded, and bands where it swings faster than pixels can show.
#pragma once

#include <vector>

#include "figures/curves.hpp"

namespace netloop {

/// The area that a fast curve sweeps.
struct Band {
    std::vector<double> x, low, high;  ///< of one length
};
struct Outline {
    std::vector<Stroke> lines;
    std::vector<Band> bands;
};

/// The pixels of a panel: its x range on `columns` of them, and what one of them is worth in y.
struct Raster {
    double low = 0, high = 1;
    int columns = 1;
    double y_pixel = 0;
    bool logarithmic_x = false;
};

/// The same line with fewer points: of consecutive points in one pixel column the first, lowest, highest and last stay, so that what is drawn covers the same
/// area. Lines of few points, and of a range that is none, come back as they are.
Stroke thinned(const Stroke& stroke, const Raster& raster);

/// The line where it can be followed; where it turns at least three times in two columns, over eight columns or more and by more than two pixels, the band
/// between its lowest and highest points. Lines reach into the bands beside them. x that does not ascend gives a line alone.
Outline outline_of(const Stroke& stroke, const Raster& raster);

}  // namespace netloop
