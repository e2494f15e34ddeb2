// What the core's tests share.
#pragma once
#include <fstream>
#include <numeric>
#include <random>
#include <sstream>
#include <string>
#include <vector>

#include "kernel/shapes/store.h"
#include "kernel/shapes/wkt.h"

namespace test {

inline civic::StoreBuffer store_of(const std::vector<std::string>& texts) {
  civic::ShapeBuilder builder;
  for (const auto& text : texts) civic::read_wkt(text, builder);
  return builder.take();
}

inline civic::StoreBuffer store_of_point(double x, double y) {
  civic::ShapeBuilder builder;
  builder.begin_shape(static_cast<int>(civic::ShapeKind::point));
  builder.begin_part(civic::ShapeKind::point);
  builder.begin_ring();
  builder.vertex(x, y);
  builder.end_shape();
  return builder.take();
}

inline std::string text_of(const civic::StoreView& store, int shape) {
  std::string out;
  civic::write_wkt(store, shape, -1, out);
  return out;
}

inline std::vector<int> all_handles(const civic::StoreView& store) {
  std::vector<int> handles(store.size());
  std::iota(handles.begin(), handles.end(), 1);
  return handles;
}

// Lines of a comma-separated file below its header, without quoting.
inline std::vector<std::vector<std::string>> csv_rows(const std::string& name) {
  std::ifstream file(std::string(CIVIC_ROOT) + "/tests/data/" + name);
  std::vector<std::vector<std::string>> rows;
  std::string line;
  std::getline(file, line);
  while (std::getline(file, line)) {
    std::vector<std::string> fields(1);
    bool quoted = false;
    for (const char c : line) {
      if (c == '"')
        quoted = !quoted;
      else if (c == ',' && !quoted)
        fields.emplace_back();
      else
        fields.back() += c;
    }
    rows.push_back(fields);
  }
  return rows;
}

// A polygon whose radius varies at random about a centre: simple, but far from convex.
inline std::string random_star(std::mt19937& random, double cx, double cy, double radius, int corners) {
  std::uniform_real_distribution<double> share(0.3, 1);
  std::string text = "POLYGON ((", first;
  for (int i = 0; i < corners; ++i) {
    const double r = radius * share(random), angle = 2 * 3.14159265358979 * i / corners;
    std::string vertex;
    civic::write_number(cx + r * std::cos(angle), -1, vertex);
    vertex += ' ';
    civic::write_number(cy + r * std::sin(angle), -1, vertex);
    if (i == 0) first = vertex;
    text += vertex + ", ";
  }
  return text + first + "))";
}

}  // namespace test
