// The core for programs without R: what reads, relates, overlays, measures, classifies and writes layers. Each folder's
// headers may be included alone as well. Link with all sources below this folder, zlib and threads;
// `tests/kernel/CMakeLists.txt` shows how.
#pragma once
#include "base/error.h"
#include "buffer/buffer.h"
#include "classify/intervals.h"
#include "crs/reproject.h"
#include "formats/blobs.h"
#include "formats/geojson.h"
#include "formats/geopackage.h"
#include "formats/kml.h"
#include "formats/shapefile.h"
#include "io/file_writer.h"
#include "measure/distance.h"
#include "measure/ellipsoidal.h"
#include "measure/planar.h"
#include "overlay/dissolve.h"
#include "overlay/overlay.h"
#include "predicate/validity.h"
#include "query/nearest.h"
#include "query/relate.h"
#include "shapes/wkb.h"
#include "shapes/wkt.h"
