#include <catch2/catch.hpp>
#include <cmath>

#include "kernel/base/error.h"
#include "kernel/formats/delimited.h"
#include "reading.h"

using namespace civic;

namespace {

DelimitedTable read(const std::string& text, char separator = ',', bool skip = false) {
  return read_delimited({reinterpret_cast<const std::uint8_t*>(text.data()), text.size()}, separator, skip);
}

// Rows as text, fields between bars, ~ for a missing one.
std::string rows(const DelimitedTable& table) {
  std::string out;
  for (std::size_t r = 0; r < table.columns[0].texts.size(); ++r) {
    for (const Column& column : table.columns)
      out += "|" + (column.texts.missing(r) ? "~" : std::string(column.texts[r]));
    out += "\n";
  }
  return out;
}

}  // namespace

TEST_CASE("fields are divided as RFC 4180 says") {
  const DelimitedTable table = read("a,\"b\"\r\n1,\"x, \"\"y\"\"\nz\"\r\n\r\n,\"\"\r\n");
  CHECK((table.columns[0].name == "a" && table.columns[1].name == "b" && table.lines == 2));
  CHECK(rows(table) == "|1|x, \"y\"\nz\n|~|\n");
  CHECK(rows(read("a;b\n1,5;2", ';')) == "|1,5|2\n");
  CHECK(rows(read("a\rb\rc", ',')) == "|b\n|c\n");
  CHECK(rows(read("a\n\nb\n")) == "|~\n|b\n");
}

TEST_CASE("lines that do not fit are named, or skipped when asked") {
  CHECK_THROWS_WITH(read("a,b\n1,2\n\n1,2,3\n"), Catch::Contains("line 4 has 3 fields, the header 2"));
  CHECK_THROWS_WITH(read("a,b\n1\n"), Catch::Contains("line 2 has 1 fields"));
  CHECK_THROWS_WITH(read("a\n\"x\ny\n"), Catch::Contains("line 2 has a quote that does not end"));
  CHECK_THROWS_WITH(read("a\n\"x\"y\n"), Catch::Contains("after a closing quote"));
  CHECK_THROWS_WITH(read(""), Catch::Contains("empty"));
  const DelimitedTable table = read("a,b\n1,2\n9\n3,4\n\"x\"y,1\n5,6\n", ',', true);
  CHECK(rows(table) == "|1|2\n|3|4\n|5|6\n");
  CHECK(test::noted(table.notices, "left out", 2));
}

TEST_CASE("columns of numbers alone become numbers, names with leading zeros and whole numbers beyond 2^53 stay text") {
  const auto settled = [](const std::vector<std::string>& cells) {
    Column column;
    column.type = ColumnType::text;
    for (const std::string& cell : cells) {
      if (cell == "-")
        column.texts.push_missing();
      else
        column.texts.push(cell);
    }
    settle_numbers(column);
    return column;
  };
  CHECK(settled({"1", " 2", "-", "", "-3"}).integers == std::vector<int>{1, 2, missing_integer, missing_integer, -3});
  CHECK(settled({"0", "2147483648"}).reals == std::vector<double>{0, 2147483648.0});
  CHECK(settled({"-1.5e3", ".5", "+2.", "0.1"}).reals == std::vector<double>{-1500, 0.5, 2, 0.1});
  CHECK(settled({"1e-400", "1.0"}).reals == std::vector<double>{0, 1});
  CHECK(std::isinf(settled({"1e400"}).reals[0]));
  CHECK(settled({"9007199254740991"}).reals == std::vector<double>{9007199254740991.0});
  for (const char* text : {"01", "9007199254740993", "1e", "--1", "0x1", "1,5", "007", ".", "e5", "1 2", "NaN"})
    CHECK(settled({"1", text}).type == ColumnType::text);
  CHECK(settled({"", "  ", "-"}).type == ColumnType::text);
}
