// Distances on the globe: chords in space bound the distances of stretches and edges from below and above, and the
// geodesic is solved for the few pairs of edges that can be the nearest.
#include <algorithm>
#include <array>
#include <cmath>

#include "../base/progress.h"
#include "../predicate/locate.h"
#include "../predicate/orientation.h"
#include "globe_shape.h"
#include "vertex_inside.h"

namespace civic {
namespace {

constexpr double rounding = 1e-7;  // metres, of places in space and of chords

// An edge, or a stretch of one: straight in degrees between its ends.
struct Piece {
  GeoPoint a, b;
  Space pa, pb;
  double bow;
  bool is_point() const { return a.longitude == b.longitude && a.latitude == b.latitude; }
  GeoPoint at(double t) const {
    if (t == 0 || t == 1) return t == 0 ? a : b;
    return {a.longitude + t * (b.longitude - a.longitude), a.latitude + t * (b.latitude - a.latitude)};
  }
};

struct Nearness {
  double distance, t, u;  // where on the two pieces, from 0 to 1
};

double place_on(Space p, Space a, Space b) {
  const Space along = b - a;
  const double length = dot(along, along);
  return length == 0 ? 0 : std::clamp(dot(p - a, along) / length, 0.0, 1.0);
}

double distance_to_chord(Space p, Space a, Space b) { return (a + place_on(p, a, b) * (b - a) - p).length(); }

// Two straight lines in space: the ends against the other line, and where both are nearest within.
Nearness nearest_of_chords(const Piece& p, const Piece& q) {
  Nearness best{HUGE_VAL, 0, 0};
  auto offer = [&](double t, double u) {
    const double distance = (p.pa + t * (p.pb - p.pa) - (q.pa + u * (q.pb - q.pa))).length();
    if (distance < best.distance) best = {distance, t, u};
  };
  for (const double t : {0.0, 1.0}) offer(t, place_on(t == 0 ? p.pa : p.pb, q.pa, q.pb));
  for (const double u : {0.0, 1.0}) offer(place_on(u == 0 ? q.pa : q.pb, p.pa, p.pb), u);
  const Space d1 = p.pb - p.pa, d2 = q.pb - q.pa, r = p.pa - q.pa;
  const double a = dot(d1, d1), e = dot(d2, d2), b = dot(d1, d2), c = dot(d1, r), f = dot(d2, r), det = a * e - b * b;
  if (det > 0) offer(std::clamp((b * f - c * e) / det, 0.0, 1.0), std::clamp((a * f - b * c) / det, 0.0, 1.0));
  return best;
}

// Whether two edges share a place in degrees, exactly.
bool edges_meet(const Piece& p, const Piece& q) {
  auto side = [](const Piece& e, GeoPoint c) {
    return orientation(e.a.longitude, e.a.latitude, e.b.longitude, e.b.latitude, c.longitude, c.latitude);
  };
  auto box = [](const Piece& e) {
    Box out;
    out.add(e.a.longitude, e.a.latitude);
    out.add(e.b.longitude, e.b.latitude);
    return out;
  };
  return box(p).meets(box(q)) && side(p, q.a) * side(p, q.b) <= 0 && side(q, p.a) * side(q, p.b) <= 0;
}

// The place of a piece next to a point, by Newton's method on the derivative of the distance along the piece, kept
// within a bracket. `u` is where to begin, and what was found.
double nearest_on(const Globe& globe, GeoPoint point, const Piece& piece, double& u) {
  const double east = piece.b.longitude - piece.a.longitude, north = piece.b.latitude - piece.a.latitude;
  double low = 0, high = 1;
  for (int step = 0;; ++step) {
    const GeoPoint at = piece.at(u);
    const GeodesicArc arc = globe.geodesic().line(point, at);
    if (!(arc.distance > 0) || piece.is_point() || step == 60) return arc.distance;
    const Globe::Degree size = globe.degree_at(at.latitude);
    const double dx = east * size.east, dy = north * size.north, speed2 = dx * dx + dy * dy;
    const double azimuth = arc.azimuth2 * degree;
    const double slope = dx * std::sin(azimuth) + dy * std::cos(azimuth);
    (slope > 0 ? high : low) = u;
    if (high <= 0 || low >= 1 || high - low < 1e-15 || slope == 0) return arc.distance;
    const double across = std::max(speed2 - slope * slope, 1e-6 * speed2);
    const double bend = across * std::max(arc.scale, 0.0) / std::max(arc.reduced_length, 1e-9);
    double next = bend > 0 ? u - slope / bend : (low + high) / 2;
    if (bend > 0 && slope * slope / (2 * bend) < 1e-9 + 1e-15 * arc.distance) return arc.distance;
    if (next >= high) next = high == 1 ? 1 : (low + high) / 2;
    if (next <= low) next = low == 0 ? 0 : (low + high) / 2;
    if (step > 10) next = (low + high) / 2;
    u = next;
  }
}

// The search for the nearest places of two shapes, best first.
class NearestPieces {
 public:
  NearestPieces(const Globe& globe, const GlobeShape& a, const GlobeShape& b, double limit)
      : globe_(globe), a_(a), b_(b), best_(limit) {
    set_cap(limit);
  }

  // Infinite where nothing is within the limit. Ends with 0 as soon as that is sure to be within, if only that is
  // asked.
  double distance(bool only_within) {
    const double limit = best_;
    bool found = false;
    push({a_.levels(), 0}, {b_.levels(), 0});
    while (!open_.empty()) {
      std::pop_heap(open_.begin(), open_.end(), later);
      const Pair at = open_.back();
      open_.pop_back();
      if (at.bound > cap_) break;
      if (only_within && surely_ <= limit) return 0;
      if (at.a.level > 0 || at.b.level > 0) {
        open(at);
      } else if (!found_meeting(at) && is_rough(at)) {
        halve(at);
      } else {
        const double distance = meets_ ? 0 : exact(at);
        if (distance > best_) continue;
        found = true;
        best_ = distance;
        set_cap(std::min(distance, surely_));
        if (best_ == 0 || only_within) return best_;
      }
    }
    return found ? best_ : HUGE_VAL;
  }

 private:
  // A node of a tree, an edge (level 0), or a stretch of one (level -1, of the pieces of its side).
  struct Item {
    int level, index;
  };
  struct Pair {
    double bound;  // of the chord
    Item a, b;
    double chord, t, u;  // of two pieces: how far their chords are, and where
  };
  static bool later(const Pair& one, const Pair& other) { return one.bound > other.bound; }

  void set_cap(double geodesic) { cap_ = globe_.longest_chord(geodesic) * (1 + 1e-12) + rounding; }

  Piece piece(const GlobeShape& shape, const std::vector<Piece>& pieces, Item item) const {
    if (item.level < 0) return pieces[static_cast<std::size_t>(item.index)];
    const GlobeShape::Edge& e = shape.edge(item.index);
    return {shape.degrees(e.from), shape.degrees(e.to), shape.at(e.from), shape.at(e.to), e.bow};
  }
  Piece piece_a(const Pair& pair) const { return piece(a_, pieces_a_, pair.a); }
  Piece piece_b(const Pair& pair) const { return piece(b_, pieces_b_, pair.b); }

  static GlobeShape::Sphere sphere(const GlobeShape& shape, Item item) {
    if (item.level > 0) return shape.sphere(item.level, item.index);
    const GlobeShape::Edge& e = shape.edge(item.index);
    const Space a = shape.at(e.from), b = shape.at(e.to);
    return {0.5 * (a + b), 0.5 * (b - a).length() + e.bow};
  }

  void push(Item a, Item b) {
    if (a.level <= 0 && b.level <= 0) return push_pieces(a, b);
    const GlobeShape::Sphere one = sphere(a_, a), other = sphere(b_, b);
    const double apart = (one.centre - other.centre).length();
    const double bound = apart - one.radius - other.radius;
    if (bound <= cap_) add({bound, a, b, 0, 0, 0});
  }

  void push_pieces(Item a, Item b) {
    Pair pair{0, a, b, 0, 0, 0};
    const Piece p = piece_a(pair), q = piece_b(pair);
    const Nearness near = nearest_of_chords(p, q);
    pair.bound = near.distance - p.bow - q.bow;
    pair.chord = near.distance;
    pair.t = near.t;
    pair.u = near.u;
    if (pair.bound > cap_) return;
    const double surely = globe_.longest_geodesic(near.distance + p.bow + q.bow + rounding);
    if (surely < surely_) {
      surely_ = surely;
      if (surely < best_) set_cap(surely);
    }
    add(pair);
  }

  void add(const Pair& pair) {
    open_.push_back(pair);
    std::push_heap(open_.begin(), open_.end(), later);
  }

  // The larger of the two nodes gives way to what it holds.
  void open(const Pair& at) {
    const bool first = at.b.level <= 0 || (at.a.level > 0 && sphere(a_, at.a).radius >= sphere(b_, at.b).radius);
    const GlobeShape& shape = first ? a_ : b_;
    const Item whole = first ? at.a : at.b;
    const int level = whole.level - 1, end = std::min(shape.count(level), (whole.index + 1) * GlobeShape::fanout);
    for (int i = whole.index * GlobeShape::fanout; i < end; ++i)
      first ? push({level, i}, at.b) : push(at.a, {level, i});
  }

  // Edges whose chords may touch are compared in degrees once, before they are halved.
  bool found_meeting(const Pair& at) {
    meets_ = at.bound <= rounding && at.a.level == 0 && at.b.level == 0 && edges_meet(piece_a(at), piece_b(at));
    return meets_;
  }

  // Whether a piece bows so far that more than one place of it may be nearest.
  bool is_rough(const Pair& at) const {
    const double bow = piece_a(at).bow + piece_b(at).bow;
    return bow > 0.05 + 1e-3 * at.chord;
  }

  void halve(const Pair& at) {
    const Piece p = piece_a(at), q = piece_b(at);
    const bool first = p.bow >= q.bow;
    const Piece& whole = first ? p : q;
    std::vector<Piece>& pieces = first ? pieces_a_ : pieces_b_;
    const GeoPoint middle = whole.at(0.5);
    const Space at_middle = globe_.place(middle);
    const int next = static_cast<int>(pieces.size());
    pieces.push_back({whole.a, middle, whole.pa, at_middle, globe_.bow(whole.a, middle)});
    pieces.push_back({middle, whole.b, at_middle, whole.pb, globe_.bow(middle, whole.b)});
    for (const int i : {next, next + 1}) first ? push_pieces({-1, i}, at.b) : push_pieces(at.a, {-1, i});
  }

  // The geodesic between the nearest places of two pieces: from the ends that may be nearest, and from where the chords
  // are, going to and fro until it gets no shorter.
  double exact(const Pair& at) const {
    const Piece p = piece_a(at), q = piece_b(at);
    if (p.is_point() && q.is_point()) return globe_.geodesic().distance(p.a, q.a);
    Nearness best{HUGE_VAL, at.t, at.u};
    auto offer = [&](double distance, double t, double u) {
      if (distance < best.distance) best = {distance, t, u};
    };
    auto from_a = [&](double t, double u) {
      const double distance = nearest_on(globe_, p.at(t), q, u);
      offer(distance, t, u);
    };
    auto from_b = [&](double t, double u) {
      const double distance = nearest_on(globe_, q.at(u), p, t);
      offer(distance, t, u);
    };
    if (p.is_point()) return from_a(0, at.u), best.distance;
    if (q.is_point()) return from_b(at.t, 0), best.distance;
    at.u == 0 || at.u == 1 ? from_b(at.t, at.u) : from_a(at.t, at.u);
    auto may_be_nearer = [&](Space end, const Piece& other) {
      return distance_to_chord(end, other.pa, other.pb) - other.bow <=
             std::min(cap_, globe_.longest_chord(best.distance));
    };
    for (const double t : {0.0, 1.0})
      if (const Space end = t == 0 ? p.pa : p.pb; best.t != t && may_be_nearer(end, q))
        from_a(t, place_on(end, q.pa, q.pb));
    for (const double u : {0.0, 1.0})
      if (const Space end = u == 0 ? q.pa : q.pb; best.u != u && may_be_nearer(end, p))
        from_b(place_on(end, p.pa, p.pb), u);
    if (best.distance > best_ + p.bow + q.bow) return best.distance;
    for (int round = 0; round < 40; ++round) {
      const double before = best.distance;
      from_a(best.t, best.u);
      from_b(best.t, best.u);
      if (before - best.distance <= 1e-9 + 1e-13 * before) break;
    }
    return best.distance;
  }

  const Globe& globe_;
  const GlobeShape &a_, &b_;
  double best_;               // the least distance found, or the limit
  double cap_ = 0;            // chords beyond it do not matter
  double surely_ = HUGE_VAL;  // the distance is at most this
  bool meets_ = false;
  std::vector<Pair> open_;
  std::vector<Piece> pieces_a_, pieces_b_;
};

// Whether a shape has places, and latitudes that there are.
bool is_on_globe(const GlobeShape& a) {
  const Box& box = a.store().boxes[static_cast<std::size_t>(a.shape())];
  return !a.empty() && box.ymin >= -90 && box.ymax <= 90;
}

bool lies_in(const GlobeShape& a, const GlobeShape& b) {
  return a.store().boxes[static_cast<std::size_t>(a.shape())].meets(
             b.store().boxes[static_cast<std::size_t>(b.shape())]) &&
         (vertex_inside(a.store(), a.shape(), b.store(), b.shape()) ||
          vertex_inside(b.store(), b.shape(), a.store(), a.shape()));
}

}  // namespace

double globe_distance(const Globe& globe, const GlobeShape& a, const GlobeShape& b, double limit) {
  if (!is_on_globe(a) || !is_on_globe(b)) return nan_value;
  if (lies_in(a, b)) return 0;
  return NearestPieces(globe, a, b, limit).distance(false);
}

bool within_on_globe(const Globe& globe, const GlobeShape& a, const GlobeShape& b, double limit) {
  if (!is_on_globe(a) || !is_on_globe(b)) return false;
  return lies_in(a, b) || NearestPieces(globe, a, b, limit).distance(true) <= limit;
}

double distance_of_rows(const Globe& globe, const GlobeRows& x, int row_x, const GlobeRows& y, int row_y,
                        double limit) {
  const Box a = x.rows().box(row_x), b = y.rows().box(row_y);
  if (a.is_place() && b.is_place()) return globe.geodesic().distance({a.xmin, a.ymin}, {b.xmin, b.ymin});
  return globe_distance(globe, x[row_x], y[row_y], limit);
}

}  // namespace civic
