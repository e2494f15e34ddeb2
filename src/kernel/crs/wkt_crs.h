// Well-known text of coordinate reference systems: version 1 in the spelling of OGC 01-009 (section 7) and in that of
// .prj files, and version 2 (OGC 18-010r11, ISO 19162:2019).
#pragma once
#include <string>
#include <string_view>

#include "crs.h"
#include "registry.h"

namespace civic {

// Reads any of the spellings; codes the text states are kept, datum shifts it lacks are taken from the registry's datum
// of that name. Throws CrsError with the position of what cannot be read.
Crs parse_crs_text(std::string_view text, const Registry& registry);

enum class WktSpelling { prj, wkt1, wkt2 };
std::string crs_text(const Crs& crs, WktSpelling spelling);

}  // namespace civic
