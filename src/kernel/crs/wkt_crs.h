// Well-known text of coordinate reference systems, version 1: OGC 01-009 section 7 and the shapefile's spelling.
#pragma once
#include <string>
#include <string_view>

#include "crs.h"
#include "registry.h"

namespace civic {

// Reads text; codes it states are kept, datum shifts it lacks are taken from the registry's datum of that name.
// Throws CrsError with the position of what cannot be read.
Crs parse_crs_text(std::string_view text, const Registry& registry);

// Writes the shapefile's spelling, as .prj files hold it.
std::string prj_text(const Crs& crs);

}  // namespace civic
