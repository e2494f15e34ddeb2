#include <catch2/catch.hpp>

#include "bytes_by_hand.h"
#include "kernel/base/error.h"
#include "kernel/io/unpack_limit.h"
#include "reading.h"

using namespace civic;

TEST_CASE("a table made by hand is read by type") {
  const auto bytes = test::dbase(
      {{"NAME", 'C', 6, 0}, {"WHOLE", 'N', 4, 0}, {"REAL", 'F', 6, 2}, {"YES", 'L', 1, 0}, {"DAY", 'D', 8, 0}},
      {" "
       "Tern  "
       "   7"
       "  1.50"
       "T"
       "20261124",
       " "
       "Gull  "
       "****"
       "      "
       "?"
       "00000000",
       "*"
       "gone  "
       "   1"
       "  2.00"
       "F"
       "20260101",
       " "
       "      "
       "  -3"
       " -9.25"
       "n"
       "20261332"});
  const test::Table table = test::read_table(bytes);
  REQUIRE(table.records == std::vector<int>{0, 1, 3});
  const Column &name = table.columns[0], &whole = table.columns[1], &real = table.columns[2], &yes = table.columns[3],
               &day = table.columns[4];
  CHECK((name.texts[0] == "Tern" && name.texts[1] == "Gull" && name.texts.missing(2)));
  CHECK(whole.integers == std::vector<int>{7, missing_integer, -3});
  CHECK((real.reals[0] == 1.5 && std::isnan(real.reals[1]) && real.reals[2] == -9.25));
  CHECK(yes.integers == std::vector<int>{1, missing_integer, 0});
  CHECK((day.reals[0] == 20781 && std::isnan(day.reals[1]) && std::isnan(day.reals[2])));
  REQUIRE(table.notices.all().size() == 2);
  CHECK(table.notices.all()[0].first == "\"****\" in record 2");
  CHECK(table.notices.all()[1].what == "values of field DAY are no dates");
}

TEST_CASE("whole numbers beyond 2^53 stay text, and wide ones within it are numbers") {
  const auto bytes = test::dbase({{"ID", 'N', 18, 0}, {"BIG", 'N', 18, 0}},
                                 {"  9007199254740992 123456789012345678", "                 5                  7"});
  const test::Table table = test::read_table(bytes);
  CHECK(table.columns[0].reals[0] == 9007199254740992.0);
  CHECK(table.columns[1].texts[0] == "123456789012345678");
  CHECK(table.notices.all().size() == 1);
}

TEST_CASE("damaged tables are refused") {
  const auto good = test::dbase({{"A", 'C', 3, 0}}, {" abc", " def"});
  auto cut = good;
  cut.resize(cut.size() - 2);
  CHECK_THROWS_WITH(test::read_table(cut), Catch::Contains("cut off in record 2"));
  auto version = good;
  version[0] = 0xf0;
  CHECK_THROWS_AS(test::read_table(version), FormatError);
  for (std::size_t n = 0; n < good.size(); ++n)
    CHECK_THROWS_AS(test::read_table(ByteSpan(good.data(), n)), FormatError);
}

TEST_CASE("numbers in a written table read back the same") {
  Column numbers, texts;
  numbers.name = "n";
  numbers.type = ColumnType::real;
  texts.name = "t";
  texts.type = ColumnType::text;
  std::mt19937_64 random(8);
  SECTION("decimals that fit") { numbers.reals = {0.1, -2.5, 1e6, 123456.789, nan_value}; }
  SECTION("any double") {
    for (int i = 0; i < 500; ++i) {
      const std::uint64_t raw = random();
      double v;
      std::memcpy(&v, &raw, 8);
      numbers.reals.push_back(std::isfinite(v) ? v : 0.1);
    }
  }
  for (std::size_t i = 0; i < numbers.reals.size(); ++i) texts.texts.push(std::string(200 + i, 'x') + "\xc3\xa9");
  const DbaseBytes bytes = encode_dbase({numbers, texts}, numbers.reals.size());
  const test::Table table = test::read_table(bytes.dbf);
  const Column& again = table.columns[0];
  for (std::size_t i = 0; i < numbers.reals.size(); ++i)
    CHECK((again.reals[i] == numbers.reals[i] || (std::isnan(again.reals[i]) && std::isnan(numbers.reals[i]))));
  CHECK(table.columns[1].texts[0].size() == 202);
}

TEST_CASE("a table that is cut off is read as far as it goes when asked") {
  auto cut = test::dbase({{"A", 'C', 3, 0}}, {" abc", " def"});
  cut.resize(cut.size() - 2);
  const test::Table table = test::read_table(cut, {}, true);
  CHECK((table.records.size() == 1 && table.columns[0].texts[0] == "abc"));
  CHECK(test::noted(table.notices, "cut off"));
}

TEST_CASE("numbers in cells are exact, however they are spelled") {
  const std::vector<std::pair<std::string, double>> cells{{"0.1", 0.1},   {"  -7.25", -7.25},
                                                          {"+3", 3},      {"123456789012.345", 123456789012.345},
                                                          {"1e-7", 1e-7}, {"0.30000000000000004", 0.30000000000000004},
                                                          {".5", 0.5},    {"-0.000123", -0.000123},
                                                          {"4.35", 4.35}, {"9999999999999999", 1e16}};
  std::vector<std::string> records;
  for (const auto& [text, value] : cells) records.push_back(" " + std::string(20 - text.size(), ' ') + text);
  const test::Table table = test::read_table(test::dbase({{"X", 'N', 20, 5}}, records));
  for (std::size_t i = 0; i < cells.size(); ++i) CHECK(table.columns[0].reals[i] == cells[i].second);
}

namespace {

// A cell of raw bytes after the deletion mark.
std::string raw(const test::ByteMaker& bytes) { return " " + std::string(bytes.bytes.begin(), bytes.bytes.end()); }

}  // namespace

TEST_CASE("binary fields of dBASE's successors are read") {
  // 2026-11-24 is Julian day 2461369; 06:30 is 23,400,000 milliseconds.
  test::ByteMaker cells;
  cells.little(static_cast<std::uint32_t>(-5)).real(2.5).little(2461369).little(23400000).little(123450).little(0);
  const test::Table table = test::read_table(
      test::dbase({{"I", 'I', 4, 0}, {"O", 'B', 8, 0}, {"T", 'T', 8, 0}, {"Y", 'Y', 8, 0}}, {raw(cells)}));
  CHECK(table.columns[0].integers == std::vector<int>{-5});
  CHECK(table.columns[1].reals == std::vector<double>{2.5});
  CHECK((table.columns[2].type == ColumnType::datetime && table.columns[2].reals[0] == 20781 * 86400.0 + 23400));
  CHECK(table.columns[3].reals == std::vector<double>{12.345});
}

TEST_CASE("memo texts are read from the files of each kind") {
  auto dbf = test::dbase({{"NOTE", 'M', 10, 0}}, {"          1", "           ", "          9"});
  auto block = [](std::size_t size, const std::string& text) { return text + std::string(size - text.size(), '\0'); };
  const std::string text = "Opened in spring,\nclosed in autumn.";

  SECTION("dBASE III: the text ends with a mark") {
    dbf[0] = 0x83;
    const std::string file = block(512, "") + block(512, text + "\x1a\x1a");
    const test::Table table = test::read_table(dbf, {file.begin(), file.end()});
    CHECK(
        (table.columns[0].texts[0] == text && table.columns[0].texts.missing(1) && table.columns[0].texts.missing(2)));
    CHECK(test::noted(table.notices, "cannot be read"));
  }
  SECTION("dBASE IV: the length stands before it") {
    dbf[0] = 0x8b;
    test::ByteMaker front;
    front.little(0x0008ffff).little(static_cast<std::uint32_t>(text.size() + 8));
    const std::string file = block(512, "") + std::string(front.bytes.begin(), front.bytes.end()) + text;
    CHECK(test::read_table(dbf, {file.begin(), file.end()}).columns[0].texts[0] == text);
  }
  SECTION("FoxPro: big-endian, with its own size of blocks") {
    dbf[0] = 0xf5;
    test::ByteMaker front;
    front.big(1).big(static_cast<std::uint32_t>(text.size()));
    std::string header = block(64, "");
    header[7] = 64;
    const std::string file = header + std::string(front.bytes.begin(), front.bytes.end()) + text;
    CHECK(test::read_table(dbf, {file.begin(), file.end()}).columns[0].texts[0] == text);
  }
  SECTION("many records of one long text are refused before they fill the memory") {
    const auto many = test::dbase({{"NOTE", 'M', 10, 0}}, std::vector<std::string>(1000, "         1"));
    const std::string file = block(512, "") + std::string(5000, 'x') + "\x1a";
    const test::Bytes memo(file.begin(), file.end());
    auto dbase3 = many;
    dbase3[0] = 0x83;
    CHECK(test::read_table(dbase3, memo).records.size() == 1000);
    Context own;
    const WithContext with(own);
    own.unpack_bytes = 1e6;
    CHECK_THROWS_AS(test::read_table(dbase3, memo), LimitError);
  }
  SECTION("without the file they are missing, and that is said") {
    CHECK(test::noted(test::read_table(dbf).notices, "memo file", 2));
  }
}
