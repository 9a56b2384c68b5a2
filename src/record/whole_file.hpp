// Texts written as a whole: an interrupted or failed write leaves what was there before.
#pragma once

#include <string>

namespace netloop {

/// Writes `text` beside `path` and gives it that name when all of it is on the disk; what stood there keeps its permissions. Throws RecordingError that names
/// the file and the reason, and leaves nothing behind then.
void write_whole(const std::string& path, const std::string& text);

}  // namespace netloop
