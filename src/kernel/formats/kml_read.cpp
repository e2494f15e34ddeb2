#include <algorithm>

#include "../base/error.h"
#include "../base/portable.h"
#include "kml.h"

namespace civic {
namespace {

struct Vertex {
  double x, y, z;
};

struct KmlPart {
  ShapeKind kind;
  std::vector<std::vector<Vertex>> rings;
};

bool is_space(char c) { return c == ' ' || c == '\n' || c == '\t' || c == '\r'; }

// Walks the tags and texts of a well-formed element.
class KmlGeometryReader {
 public:
  explicit KmlGeometryReader(std::string_view text) : text_(text) {}

  void read(ShapeBuilder& builder) {
    while (next_tag()) {
      if (!alone_) open_ += closing_ ? -1 : 1;
      handle_tag();
    }
    if (open_ != 0) fail("is cut off");
    emit(builder);
  }

 private:
  [[noreturn]] void fail(const std::string& what) const { throw FormatError("the KML geometry " + what); }

  // Moves to the next tag, keeping the text before it.
  bool next_tag() {
    content_.clear();
    while (at_ < text_.size()) {
      const std::size_t open = text_.find('<', at_);
      content_ += text_.substr(at_, open - at_);
      if (open == text_.npos) return false;
      if (text_.substr(open, 4) == "<!--") {
        skip_past("-->", open);
      } else if (text_.substr(open, 9) == "<![CDATA[") {
        const std::size_t end = text_.find("]]>", open);
        if (end == text_.npos) fail("is cut off");
        content_ += text_.substr(open + 9, end - open - 9);
        at_ = end + 3;
      } else {
        const std::size_t end = text_.find('>', open);
        if (end == text_.npos) fail("is cut off");
        set_tag(text_.substr(open + 1, end - open - 1));
        at_ = end + 1;
        return true;
      }
    }
    return false;
  }

  void skip_past(std::string_view mark, std::size_t from) {
    const std::size_t end = text_.find(mark, from);
    if (end == text_.npos) fail("is cut off");
    at_ = end + mark.size();
  }

  void set_tag(std::string_view inside) {
    closing_ = !inside.empty() && inside.front() == '/';
    alone_ = !inside.empty() && inside.back() == '/';
    if (closing_) inside.remove_prefix(1);
    const auto end = std::find_if(inside.begin(), inside.end(), [](char c) { return is_space(c) || c == '/'; });
    name_ = inside.substr(0, end - inside.begin());
    const std::size_t colon = name_.find(':');
    if (colon != name_.npos) name_.remove_prefix(colon + 1);
  }

  void handle_tag() {
    if (name_ == "coordinates") {
      if (closing_ || alone_) take_coordinates();
    } else if (name_ == "altitudeMode") {
      if (closing_) measured_ |= content_.find("clampToGround") == content_.npos;
    } else if (closing_ || name_.empty()) {
      return;
    } else if (name_ == "Point") {
      parts_.push_back({ShapeKind::point, {}});
    } else if (name_ == "LineString") {
      parts_.push_back({ShapeKind::line, {}});
    } else if (name_ == "Polygon") {
      parts_.push_back({ShapeKind::polygon, {}});
    } else if (name_ == "LinearRing") {
      if (parts_.empty() || parts_.back().kind != ShapeKind::polygon) parts_.push_back({ShapeKind::line, {}});
    } else if (name_ == "MultiGeometry") {
      several_ = true;
    } else if (name_ == "Model" || name_ == "Track" || name_ == "MultiTrack") {
      fail("is a " + std::string(name_) + ", which is not read");
    }
  }

  void take_coordinates() {
    if (parts_.empty()) fail("has coordinates outside of a Point, LineString or Polygon");
    std::vector<Vertex> vertices;
    const char* at = content_.data();
    const char* const end = at + content_.size();
    auto skip = [&] {
      while (at < end && is_space(*at)) ++at;
    };
    for (skip(); at < end; skip()) {
      double values[3] = {0, 0, nan_value};
      int n = 0;
      for (; n < 3; ++n) {
        if (at < end && *at == '+') ++at;
        const auto [stop, problem] = read_double(at, end, values[n]);
        if (problem != std::errc())
          fail("has a coordinate that is no number: \"" + std::string(at, std::min<std::size_t>(end - at, 12)) + "\"");
        at = stop;
        const char* const after = at;
        skip();
        if (at >= end || *at != ',') {
          at = after;
          ++n;
          break;
        }
        ++at;
        skip();
      }
      if (n < 2) fail("has a position of fewer than two numbers");
      vertices.push_back({values[0], values[1], values[2]});
    }
    if (parts_.back().kind == ShapeKind::point && vertices.size() > 1) fail("has a Point of several positions");
    if (vertices.empty()) return;
    KmlPart& part = parts_.back();
    if (part.kind != ShapeKind::polygon && !part.rings.empty())
      fail("has coordinates twice in one Point or LineString");
    part.rings.push_back(std::move(vertices));
  }

  void emit(ShapeBuilder& builder) {
    if (parts_.empty() && !several_) fail("is none of Point, LineString, LinearRing, Polygon and MultiGeometry");
    bool z = false, mixed = false;
    for (const KmlPart& part : parts_) {
      mixed |= part.kind != parts_.front().kind;
      for (const auto& ring : part.rings)
        for (const Vertex& v : ring) z |= v.z != 0 ? !std::isnan(v.z) : measured_;
    }
    const ShapeKind kind = mixed || parts_.empty()         ? ShapeKind::collection
                           : several_ || parts_.size() > 1 ? multi_kind(parts_.front().kind)
                                                           : parts_.front().kind;
    builder.begin_shape(type_code(kind, z, false));
    for (const KmlPart& part : parts_) {
      if (part.rings.empty()) continue;
      builder.begin_part(part.kind);
      for (const auto& ring : part.rings) {
        builder.begin_ring();
        for (const Vertex& v : ring) builder.vertex(v.x, v.y, v.z);
        if (part.kind == ShapeKind::polygon) builder.close_ring();
      }
    }
    builder.end_shape();
  }

  std::string_view text_;
  std::size_t at_ = 0;
  int open_ = 0;  // elements
  std::string content_;
  std::string_view name_;
  bool closing_ = false, alone_ = false, several_ = false, measured_ = false;
  std::vector<KmlPart> parts_;
};

}  // namespace

void read_kml_geometry(std::string_view element, ShapeBuilder& builder) { KmlGeometryReader(element).read(builder); }

}  // namespace civic
