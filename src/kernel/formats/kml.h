// KML (OGC 07-147r2, version 2.2): the geometry elements of a placemark read, and whole documents written.
#pragma once
#include <string>
#include <string_view>
#include <vector>

#include "../shapes/store.h"
#include "columns.h"

namespace civic {

// Appends the shape of one well-formed Point, LineString, LinearRing, Polygon or MultiGeometry element. Altitudes are
// kept unless all are zero and the element does not say what they are measured from.
// Throws FormatError that says what is wrong.
void read_kml_geometry(std::string_view element, ShapeBuilder& builder);

// Encodes rows as placemarks of a document; attributes go into ExtendedData, typed by a Schema, and the column "name"
// into the placemarks' names as well. M values are left out and counted.
std::string encode_kml(const ShapeRows& rows, const std::vector<Column>& columns, const std::string& layer,
                       int decimals, Notices& notices);

}  // namespace civic
