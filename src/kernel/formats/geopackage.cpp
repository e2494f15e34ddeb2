#include "geopackage.h"

#include "../base/error.h"
#include "../shapes/wkb.h"

namespace civic {
namespace {

constexpr std::size_t fixed_size = 8;
constexpr std::uint8_t little_endian = 1, empty_flag = 0x10, extended_flag = 0x20;

std::uint64_t big64(const std::uint8_t* at) { return std::uint64_t{big32(at)} << 32 | big32(at + 4); }

}  // namespace

GeopackageHeader read_geopackage_header(ByteSpan blob) {
  if (blob.size() < fixed_size || blob[0] != 'G' || blob[1] != 'P')
    throw FormatError("the blob does not start with a GeoPackage geometry's \"GP\" (byte 0)");
  const std::uint8_t flags = blob[3];
  if (flags & extended_flag) throw FormatError("the blob holds an extension's geometry, which is not read (byte 3)");
  static const std::size_t envelope_values[] = {0, 4, 6, 6, 8};
  const int form = flags >> 1 & 7;
  if (form > 4) throw FormatError("the blob states an envelope of an unknown form (byte 3)");
  const std::size_t size = fixed_size + 8 * envelope_values[form];
  if (blob.size() < size) throw FormatError("the blob is cut off (byte " + std::to_string(blob.size()) + ")");
  const bool little_first = flags & little_endian;
  auto real = [&](int i) {
    const std::uint8_t* at = blob.data() + fixed_size + 8 * i;
    return little_first ? little<double>(at) : std::bit_cast<double>(big64(at));
  };
  GeopackageHeader header;
  header.srs_id = static_cast<int>(little_first ? little<std::uint32_t>(blob.data() + 4) : big32(blob.data() + 4));
  header.empty = flags & empty_flag;
  if (form > 0) header.envelope = Box{real(0), real(2), real(1), real(3)};
  header.size = size;
  return header;
}

void write_geopackage_shape(const StoreView& store, int shape, int srs_id, std::vector<std::uint8_t>& out) {
  const Box& box = store.boxes[shape];
  const bool empty = store.shape_vertices(shape).size() == 0;
  const bool envelope = !empty && !box.empty() && kind_of(store.types[shape]) != ShapeKind::point;
  out.insert(out.end(), {'G', 'P', 0});
  out.push_back(static_cast<std::uint8_t>(little_endian | (envelope ? 1 << 1 : 0) | (empty ? empty_flag : 0)));
  put_little<std::int32_t>(out, srs_id);
  if (envelope)
    for (const double edge : {box.xmin, box.xmax, box.ymin, box.ymax}) put_little(out, edge);
  write_wkb(store, shape, out);
}

}  // namespace civic
