#include "wkt.h"

#include <charconv>
#include <cstring>

#include "../base/error.h"
#include "../base/portable.h"

namespace civic {
namespace {

const char* const kind_words[] = {"",           "POINT",           "LINESTRING",   "POLYGON",
                                  "MULTIPOINT", "MULTILINESTRING", "MULTIPOLYGON", "GEOMETRYCOLLECTION"};

char upper(char c) { return c >= 'a' && c <= 'z' ? static_cast<char>(c - 32) : c; }
bool is_letter(char c) { return upper(c) >= 'A' && upper(c) <= 'Z'; }
bool is_space(char c) { return c == ' ' || c == '\t' || c == '\n' || c == '\r'; }

class WktReader {
 public:
  WktReader(std::string_view text, ShapeBuilder& builder) : text_(text), builder_(builder) {}

  void read() {
    type_ = read_tag();
    builder_.begin_shape(type_);
    read_body(kind_of(type_), 0);
    skip_space();
    if (at_ != text_.size()) fail("has text after its end");
    builder_.end_shape();
  }

 private:
  [[noreturn]] void fail(const std::string& what) const {
    const std::size_t from = std::min(at_, text_.size());
    std::string near(text_.substr(from, 20));
    throw FormatError("the text of the shape " + what + " at character " + std::to_string(from + 1) +
                      (near.empty() ? ", its end" : ": \"" + near + "\""));
  }

  void skip_space() {
    while (at_ < text_.size() && is_space(text_[at_])) ++at_;
  }
  bool take(char c) {
    skip_space();
    if (at_ >= text_.size() || text_[at_] != c) return false;
    ++at_;
    return true;
  }
  void expect(char c) {
    if (!take(c)) fail(std::string("lacks a '") + c + "'");
  }
  std::string peek_word() {
    skip_space();
    std::string word;
    for (std::size_t i = at_; i < text_.size() && is_letter(text_[i]); ++i) word += upper(text_[i]);
    return word;
  }
  bool take_word(const char* wanted) {
    if (peek_word() != wanted) return false;
    at_ += std::strlen(wanted);
    return true;
  }

  int read_tag() {
    std::string word = peek_word();
    bool z = false, m = false;
    int kind = kind_index(word);
    if (kind == 0)  // the dimension may stand without a space: POINTZ, LINESTRINGZM
      for (const char* ending : {"ZM", "Z", "M"}) {
        const std::size_t length = std::strlen(ending);
        if (kind == 0 && word.size() > length && word.ends_with(ending)) {
          kind = kind_index(word.substr(0, word.size() - length));
          z = ending[0] == 'Z';
          m = ending[length - 1] == 'M';
        }
      }
    if (kind == 0) fail(word.empty() ? "lacks a type name" : "has the unknown type \"" + word + "\"");
    at_ += word.size();
    if (!z && !m) {
      if (take_word("ZM"))
        z = m = true;
      else if (take_word("Z"))
        z = true;
      else if (take_word("M"))
        m = true;
    }
    return type_code(static_cast<ShapeKind>(kind), z, m);
  }

  static int kind_index(const std::string& word) {
    for (int i = 1; i <= kind_limit; ++i)
      if (word == kind_words[i]) return i;
    return 0;
  }

  double read_number() {
    skip_space();
    for (auto [word, value] : {std::pair{"NAN", nan_value}, {"INF", HUGE_VAL}, {"INFINITY", HUGE_VAL}})
      if (take_word(word)) return value;
    if (at_ < text_.size() && text_[at_] == '-' && at_ + 1 < text_.size() && is_letter(text_[at_ + 1])) {
      ++at_;
      return -read_number();
    }
    if (at_ < text_.size() && text_[at_] == '+') ++at_;
    double value = 0;
    const auto [end, problem] = read_double(text_.data() + at_, text_.data() + text_.size(), value);
    if (problem == std::errc::result_out_of_range) fail("has a number beyond what a double holds");
    if (problem != std::errc()) fail("lacks a number");
    at_ = end - text_.data();
    return value;
  }

  void read_vertex() {
    const double x = read_number(), y = read_number();
    const double z = has_z(type_) ? read_number() : nan_value;
    const double m = has_m(type_) ? read_number() : nan_value;
    builder_.vertex(x, y, z, m);
  }

  void read_ring() {
    builder_.begin_ring();
    if (take_word("EMPTY")) return;
    expect('(');
    do read_vertex();
    while (take(','));
    expect(')');
  }

  void read_polygon() {
    builder_.begin_part(ShapeKind::polygon);
    expect('(');
    do read_ring();
    while (take(','));
    expect(')');
  }

  void read_point(bool parenthesised) {
    builder_.begin_part(ShapeKind::point);
    builder_.begin_ring();
    if (parenthesised) expect('(');
    read_vertex();
    if (parenthesised) expect(')');
  }

  void read_line() {
    builder_.begin_part(ShapeKind::line);
    read_ring();
  }

  void read_member(ShapeKind kind, int depth) {
    if (kind == ShapeKind::collection) {
      const int member = read_tag();
      if (member / 1000 != type_ / 1000) fail("mixes members with and without Z or M");
      return read_body(kind_of(member), depth + 1);
    }
    if (take_word("EMPTY")) return;
    skip_space();
    if (kind == ShapeKind::multipoint) return read_point(at_ < text_.size() && text_[at_] == '(');
    if (kind == ShapeKind::multiline) return read_line();
    read_polygon();
  }

  void read_body(ShapeKind kind, int depth) {
    if (depth > 32) fail("nests collections more than 32 deep");
    if (take_word("EMPTY")) return;
    if (kind == ShapeKind::point) return read_point(true);
    if (kind == ShapeKind::line) return read_line();
    if (kind == ShapeKind::polygon) return read_polygon();
    expect('(');
    do read_member(kind, depth);
    while (take(','));
    expect(')');
  }

  std::string_view text_;
  ShapeBuilder& builder_;
  std::size_t at_ = 0;
  int type_ = 0;
};

class WktWriter {
 public:
  WktWriter(const StoreView& store, int shape, int decimals, std::string& out)
      : store_(store), type_(store.types[shape]), decimals_(decimals), out_(out) {}

  void write(int shape) {
    const ShapeKind kind = kind_of(type_);
    const IndexRange parts = store_.parts(shape);
    tag(kind);
    if (parts.size() == 0) {
      out_ += " EMPTY";
    } else if (part_kind(kind) == kind && kind != ShapeKind::collection) {
      out_ += ' ';
      write_part(parts.begin);
    } else {
      out_ += " (";
      for (int part = parts.begin; part < parts.end; ++part) {
        if (part > parts.begin) out_ += ", ";
        if (kind == ShapeKind::collection) {
          tag(store_.part_kind(part));
          out_ += ' ';
        }
        write_part(part);
      }
      out_ += ')';
    }
  }

 private:
  void tag(ShapeKind kind) {
    out_ += kind_words[static_cast<int>(kind)];
    if (type_ >= 1000) out_ += type_ / 1000 == 1 ? " Z" : type_ / 1000 == 2 ? " M" : " ZM";
  }

  void write_ring(int ring) {
    const IndexRange vertices = store_.vertices(ring);
    if (vertices.size() == 0) {
      out_ += "EMPTY";
      return;
    }
    for (int v = vertices.begin; v < vertices.end; ++v) {
      out_ += v == vertices.begin ? "(" : ", ";
      write_number(store_.x[v], decimals_, out_);
      out_ += ' ';
      write_number(store_.y[v], decimals_, out_);
      if (has_z(type_)) write_number(store_.z[v], decimals_, out_ += ' ');
      if (has_m(type_)) write_number(store_.m[v], decimals_, out_ += ' ');
    }
    out_ += ')';
  }

  void write_part(int part) {
    const IndexRange rings = store_.rings(part);
    if (store_.part_kind(part) != ShapeKind::polygon) return write_ring(rings.begin);
    for (int ring = rings.begin; ring < rings.end; ++ring) {
      out_ += ring == rings.begin ? "(" : ", ";
      write_ring(ring);
    }
    out_ += ')';
  }

  const StoreView& store_;
  int type_, decimals_;
  std::string& out_;
};

}  // namespace

void read_wkt(std::string_view text, ShapeBuilder& builder) { WktReader(text, builder).read(); }

void write_wkt(const StoreView& store, int shape, int decimals, std::string& out) {
  WktWriter(store, shape, decimals, out).write(shape);
}

void write_number(double value, int decimals, std::string& out) {
  if (std::isnan(value)) {
    out += "NaN";
    return;
  }
  if (std::isinf(value)) {
    out += value < 0 ? "-Inf" : "Inf";
    return;
  }
  char digits[400];
  const auto end = decimals < 0 ? std::to_chars(digits, digits + sizeof digits, value)
                                : std::to_chars(digits, digits + sizeof digits, value, std::chars_format::fixed,
                                                std::min(decimals, 60));
  char* last = end.ptr;
  if (decimals > 0) {
    while (last[-1] == '0') --last;
    if (last[-1] == '.') --last;
    if (last == digits + 2 && digits[0] == '-' && digits[1] == '0') return void(out += '0');
  }
  out.append(digits, last);
}

}  // namespace civic
