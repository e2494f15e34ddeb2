// The core as a program without R uses it, by its one public header.
#include <catch2/catch.hpp>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <numeric>

#include "kernel/civic.h"

namespace {

civic::GeojsonLayer read(const std::string& text) {
  const auto* bytes = reinterpret_cast<const std::uint8_t*>(text.data());
  const civic::InputFile file{civic::ByteSpan{bytes, text.size()}};
  return civic::decode_geojson(file.read(0, file.size()).bytes(), {});
}

civic::ShapeRows rows_of(const civic::GeojsonLayer& layer) { return {layer.store.view(), layer.handles}; }

// A square of side 2 whose lower left corner is (x, 0).
std::string square(int x, const std::string& property) {
  const std::string left = std::to_string(x), right = std::to_string(x + 2);
  return R"({"type":"Feature","properties":{)" + property + R"(},"geometry":{"type":"Polygon","coordinates":[[[)" +
         left + ",0],[" + right + ",0],[" + right + ",2],[" + left + ",2],[" + left + ",0]]]}}";
}

}  // namespace

TEST_CASE("two layers are read, overlaid and written without R") {
  const civic::GeojsonLayer wards = read(square(0, R"("ward":"west")")), parks = read(square(1, R"("park":7)"));
  const civic::OverlayKeep keep{.both = true};
  const civic::Pieces pieces = civic::overlay(rows_of(wards), rows_of(parks), keep);
  REQUIRE(pieces.x == std::vector<int>{0});

  std::vector<civic::Column> columns{wards.columns[0], parks.columns[0]};  // of their only rows, as the piece is
  std::vector<int> handles(pieces.x.size());
  std::iota(handles.begin(), handles.end(), 1);
  civic::Notices notices;
  const std::string text = civic::encode_geojson({pieces.store.view(), handles}, columns, {}, notices);
  const civic::GeojsonLayer back = read(text);
  REQUIRE(back.columns.size() == 2);
  CHECK(back.columns[0].texts[0] == "west");
  CHECK(back.columns[1].integers[0] == 7);
  const civic::Box box = rows_of(back).box(0);
  CHECK((box.xmin == 1 && box.ymin == 0 && box.xmax == 2 && box.ymax == 2));
}

#ifndef _WIN32  // where the example's path is another one under wine
TEST_CASE("the example program does the same with files") {
  const std::filesystem::path folder = std::filesystem::temp_directory_path() / "civic-example";
  std::filesystem::create_directory(folder);
  const auto path = [&](const char* name) { return (folder / name).string(); };
  std::ofstream(path("one.geojson")) << square(0, R"("ward":"west")");
  std::ofstream(path("other.geojson")) << square(1, R"("park":7)");
  const std::string files = " " + path("one.geojson") + " " + path("other.geojson") + " " + path("pieces.geojson");
  REQUIRE(std::system((CIVIC_EXAMPLE + files).c_str()) == 0);
  const civic::InputFile written(path("pieces.geojson"));
  const civic::GeojsonLayer back = civic::decode_geojson(written.read(0, written.size()).bytes(), {});
  REQUIRE(back.columns.size() == 2);
  CHECK(back.columns[0].texts[0] == "west");
  CHECK(back.columns[1].integers[0] == 7);
  CHECK(std::system((CIVIC_EXAMPLE + std::string(" nothing.geojson") + files + " 2>/dev/null").c_str()) != 0);
  std::filesystem::remove_all(folder);
}
#endif
