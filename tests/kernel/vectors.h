// Reference vectors with a JSON object a line.
#pragma once
#include <simdjson.h>

#include <catch2/catch.hpp>

#include "support.h"

namespace test {

struct Vector {
  simdjson::dom::element fields;
  std::string text(const char* name) const { return std::string(std::string_view(fields[name])); }
  double number(const char* name) const { return fields[name].get_double().value(); }
  bool has_number(const char* name) const { return fields[name].is_number(); }
};

template <class Body>
void for_each_vector(const std::string& name, const Body& body) {
  std::ifstream file(std::string(CIVIC_ROOT) + "/tests/data/" + name);
  REQUIRE(file.good());
  simdjson::dom::parser parser;
  std::string line;
  int count = 0;
  while (std::getline(file, line)) {
    const Vector vector{parser.parse(line)};
    INFO(vector.text("name"));
    body(vector);
    ++count;
  }
  REQUIRE(count > 50);
}

}  // namespace test
