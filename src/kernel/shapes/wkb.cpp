#include "wkb.h"

#include <bit>
#include <cstring>

#include "../base/error.h"

namespace civic {
namespace {

class WkbReader {
 public:
  WkbReader(ByteSpan bytes, ShapeBuilder& builder) : bytes_(bytes), builder_(builder) {}

  void read() {
    read_prefix();
    if (at_ != bytes_.size()) fail("has " + std::to_string(bytes_.size() - at_) + " bytes after its end");
  }

  std::size_t read_prefix() {
    const int type = read_header();
    builder_.begin_shape(type);
    read_body(type, 0);
    builder_.end_shape();
    return at_;
  }

 private:
  [[noreturn]] void fail(const std::string& what) const {
    throw FormatError("the binary shape " + what + " (byte " + std::to_string(at_) + ")");
  }

  template <class T>
  T take() {
    if (bytes_.size() - at_ < sizeof(T)) fail("is cut off");
    std::uint8_t raw[sizeof(T)];
    std::memcpy(raw, bytes_.data() + at_, sizeof(T));
    if (swap_)
      for (std::size_t i = 0; i < sizeof(T) / 2; ++i) std::swap(raw[i], raw[sizeof(T) - 1 - i]);
    at_ += sizeof(T);
    T value;
    std::memcpy(&value, raw, sizeof(T));
    return value;
  }

  int read_header() {
    const auto order = take<std::uint8_t>();
    if (order > 1) fail("starts with byte order " + std::to_string(order) + ", not 0 or 1");
    swap_ = (order == 1) != (std::endian::native == std::endian::little);
    std::uint32_t code = take<std::uint32_t>();
    const bool z = code & 0x80000000u, m = code & 0x40000000u;
    if (code & 0x20000000u) take<std::uint32_t>();  // an identifier of its CRS, which the caller states
    code &= 0x0fffffffu;
    const std::uint32_t kind = code % 1000, dimensions = code / 1000;
    if (kind < 1 || kind > kind_limit || dimensions > 3)
      fail("has type " + std::to_string(code) + ", which is none of point, line, polygon and their collections");
    return type_code(static_cast<ShapeKind>(kind), z || dimensions == 1 || dimensions == 3, m || dimensions >= 2);
  }

  // A count of items that take at least `least` bytes each, so that a wrong count cannot ask for memory.
  std::uint32_t read_count(std::size_t least) {
    const auto count = take<std::uint32_t>();
    if (count > (bytes_.size() - at_) / least) fail("announces more items than it has bytes");
    return count;
  }

  void read_vertex(int type) {
    const double x = take<double>(), y = take<double>();
    const double z = has_z(type) ? take<double>() : nan_value;
    const double m = has_m(type) ? take<double>() : nan_value;
    builder_.vertex(x, y, z, m);
  }

  void read_ring(int type) {
    builder_.begin_ring();
    const std::size_t width = 16 + (has_z(type) ? 8 : 0) + (has_m(type) ? 8 : 0);
    const auto count = read_count(width);
    if (swap_ || std::endian::native != std::endian::little) {
      for (auto left = count; left > 0; --left) read_vertex(type);
    } else {
      builder_.vertices(bytes_.data() + at_, count);
      at_ += count * width;
    }
  }

  void read_point(int type) {
    // An empty point is written as NaN coordinates (OGC 12-128r18, clause 2.1.3.1.1).
    const std::size_t start = at_;
    const double x = take<double>(), y = take<double>();
    at_ = start;
    const bool empty = std::isnan(x) && std::isnan(y);
    if (!empty) {
      builder_.begin_part(ShapeKind::point);
      builder_.begin_ring();
      return read_vertex(type);
    }
    at_ += 16 + (has_z(type) ? 8 : 0) + (has_m(type) ? 8 : 0);
    if (at_ > bytes_.size()) fail("is cut off");
  }

  void read_body(int type, int depth) {
    switch (kind_of(type)) {
      case ShapeKind::point:
        return read_point(type);
      case ShapeKind::line: {
        const std::size_t start = at_;
        if (take<std::uint32_t>() == 0) return;
        at_ = start;
        builder_.begin_part(ShapeKind::line);
        return read_ring(type);
      }
      case ShapeKind::polygon: {
        const auto rings = read_count(4);
        if (rings == 0) return;
        builder_.begin_part(ShapeKind::polygon);
        for (std::uint32_t i = 0; i < rings; ++i) read_ring(type);
        return;
      }
      default: {
        if (depth > 32) fail("nests collections more than 32 deep");
        for (auto left = read_count(5); left > 0; --left) {
          const bool outer_swap = swap_;
          const int member = read_header();
          if (kind_of(type) != ShapeKind::collection && kind_of(member) != part_kind(kind_of(type)))
            fail(std::string("holds a ") + kind_name(kind_of(member)) + " inside a " + kind_name(kind_of(type)));
          if (member / 1000 != type / 1000) fail("mixes members with and without Z or M");
          read_body(member, depth + 1);
          swap_ = outer_swap;
        }
      }
    }
  }

  ByteSpan bytes_;
  ShapeBuilder& builder_;
  std::size_t at_ = 0;
  bool swap_ = false;
};

class WkbWriter {
 public:
  WkbWriter(const StoreView& store, int shape, std::vector<std::uint8_t>& out)
      : store_(store), type_(store.types[shape]), out_(out) {}

  void write(int shape) {
    const ShapeKind kind = kind_of(type_);
    const IndexRange parts = store_.parts(shape);
    if (part_kind(kind) == kind && kind != ShapeKind::collection) {
      if (parts.size() > 0) return write_part(parts.begin);
      header(kind);
      if (kind != ShapeKind::point) return put<std::uint32_t>(0);
      for (int i = 0; i < coordinates(); ++i) put(nan_value);
      return;
    }
    header(kind);
    put<std::uint32_t>(parts.size());
    for (int part = parts.begin; part < parts.end; ++part) write_part(part);
  }

 private:
  int coordinates() const { return 2 + has_z(type_) + has_m(type_); }

  template <class T>
  void put(T value) {
    std::uint8_t raw[sizeof(T)];
    std::memcpy(raw, &value, sizeof(T));
    if constexpr (std::endian::native == std::endian::big)
      for (std::size_t i = 0; i < sizeof(T) / 2; ++i) std::swap(raw[i], raw[sizeof(T) - 1 - i]);
    out_.insert(out_.end(), raw, raw + sizeof(T));
  }

  void header(ShapeKind kind) {
    put<std::uint8_t>(1);
    put<std::uint32_t>(type_code(kind, has_z(type_), has_m(type_)));
  }

  void write_part(int part) {
    const ShapeKind kind = store_.part_kind(part);
    header(kind);
    const IndexRange rings = store_.rings(part);
    if (kind == ShapeKind::polygon) put<std::uint32_t>(rings.size());
    for (int ring = rings.begin; ring < rings.end; ++ring) {
      const IndexRange vertices = store_.vertices(ring);
      if (kind != ShapeKind::point) put<std::uint32_t>(vertices.size());
      for (int v = vertices.begin; v < vertices.end; ++v) {
        put(store_.x[v]);
        put(store_.y[v]);
        if (has_z(type_)) put(store_.z[v]);
        if (has_m(type_)) put(store_.m[v]);
      }
    }
  }

  const StoreView& store_;
  int type_;
  std::vector<std::uint8_t>& out_;
};

}  // namespace

void read_wkb(ByteSpan bytes, ShapeBuilder& builder) { WkbReader(bytes, builder).read(); }

std::size_t read_wkb_prefix(ByteSpan bytes, ShapeBuilder& builder) { return WkbReader(bytes, builder).read_prefix(); }

void write_wkb(const StoreView& store, int shape, std::vector<std::uint8_t>& out) {
  WkbWriter(store, shape, out).write(shape);
}

}  // namespace civic
