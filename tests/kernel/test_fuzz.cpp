// Decoders against mutated input: whatever comes, they read it or throw an Error, under the sanitizers.
#include <algorithm>
#include <catch2/catch.hpp>
#include <cstdlib>
#include <ctime>
#include <functional>

#include "bytes_by_hand.h"
#include "grids_by_hand.h"
#include "kernel/base/error.h"
#include "kernel/crs/grid_shift.h"
#include "kernel/crs/wkt_crs.h"
#include "kernel/formats/blobs.h"
#include "kernel/formats/delimited.h"
#include "kernel/formats/geopackage.h"
#include "kernel/formats/kml.h"
#include "kernel/formats/parquet_file.h"
#include "kernel/formats/parquet_footer.h"
#include "kernel/formats/snappy.h"
#include "kernel/formats/zip.h"
#include "kernel/io/deflate.h"
#include "kernel/query/expression.h"
#include "kernel/shapes/wkb.h"
#include "parquet_rows.h"
#include "reading.h"

using namespace civic;

namespace {

using Seed = std::vector<std::uint8_t>;

Seed bytes_of(const std::string& text) { return Seed(text.begin(), text.end()); }

Seed mutated(const Seed& seed, std::mt19937& random) {
  Seed out = seed;
  const int changes = 1 + random() % 4;
  for (int i = 0; i < changes && !out.empty(); ++i) {
    const std::size_t at = random() % out.size();
    static const std::uint8_t telling[] = {0, 1, 0x7f, 0x80, 0xff, '"', '[', '{', ']', ','};
    switch (random() % 5) {
      case 0:
        out[at] = static_cast<std::uint8_t>(random());
        break;
      case 1:
        out[at] = telling[random() % sizeof telling];
        break;
      case 2:
        out.resize(at);
        break;
      case 3:
        out.erase(out.begin() + at);
        break;
      default: {  // repeat a piece
        const Seed piece(out.begin() + at, out.begin() + at + random() % (out.size() - at + 1));
        out.insert(out.begin() + random() % out.size(), piece.begin(), piece.end());
      }
    }
    if (out.size() > 4 * seed.size() + 64) out.resize(4 * seed.size() + 64);
  }
  return out;
}

// 2,000 inputs a decoder; CIVIC_FUZZ_RUNS asks for more. None may take 50,000 times the processor time of the middle
// one, or more memory than the sanitizer is told to grant (tools/fuzz.sh). `refuses`: some of the inputs must be
// refused, which shows that the mutations bite.
void fuzz(const std::vector<Seed>& seeds, const std::function<void(const Seed&)>& decode, bool refuses = true) {
  const char* asked = std::getenv("CIVIC_FUZZ_RUNS");
  const int runs = asked ? std::atoi(asked) : 2000;
  std::mt19937 random(asked ? std::random_device{}() : 1);
  int refused = 0;
  std::vector<std::clock_t> ticks;
  for (int i = 0; i < runs; ++i) {
    const std::clock_t start = std::clock();
    try {
      decode(mutated(seeds[i % seeds.size()], random));
    } catch (const Error&) {
      ++refused;
    }
    ticks.push_back(std::clock() - start);
  }
  CHECK((refused > 0 || !refuses));
  std::sort(ticks.begin(), ticks.end());
  const std::clock_t middle = std::max<std::clock_t>(1, ticks[ticks.size() / 2]);
  CHECK(ticks.back() / middle < 50000);
}

}  // namespace

TEST_CASE("mutated shapefiles") {
  const auto poly = test::poly_record(
      5, {{{0, 0}, {0, 9}, {9, 9}, {0, 0}}, {{1, 2}, {2, 3}, {1, 3}, {1, 2}}, {{20, 0}, {20, 9}, {29, 9}, {20, 0}}});
  fuzz({test::shapefile(5, {poly, poly}),
        test::shapefile(11, {test::ByteMaker().little(11).real(1).real(2).real(3).real(4).bytes}),
        test::shapefile(8,
                        {test::ByteMaker().little(8).real(0).real(0).real(0).real(0).little(1).real(1).real(2).bytes})},
       [](const Seed& bytes) {
         const InputFile file{ByteSpan(bytes)};
         ShapefileReader reader(file, nullptr, bytes.size() % 2 == 0);
         reader.records_within({0, 0, 5, 5});
         CHECK_NOTHROW(check_store(test::decode(reader, test::up_to(reader.records())).store.view()));
       });
  const auto good = test::shapefile(5, {poly, poly});
  const ShapefileBytes index = [&] {
    const test::Shapes shapes = test::read_shp(good);
    return encode_shapefile({shapes.store.view(), shapes.handles});
  }();
  fuzz(
      {index.shx}, [&](const Seed& bytes) { test::read_shp(index.shp, bytes); }, false);
}

TEST_CASE("mutated tables") {
  fuzz({test::dbase({{"A", 'C', 3, 0}, {"N", 'N', 5, 1}, {"D", 'D', 8, 0}, {"L", 'L', 1, 0}},
                    {" abc  1.520261124T", "*def-99.0        ?"})},
       [](const Seed& bytes) { test::read_table(bytes, {}, bytes.size() % 2 == 0); });
  auto memo_table = test::dbase({{"M", 'M', 10, 0}, {"I", 'I', 4, 0}, {"T", 'T', 8, 0}}, {"          1abcd12345678"});
  Seed memo(1024, 'm');
  for (const int version : {0x83, 0x8b, 0xf5}) {
    memo_table[0] = static_cast<std::uint8_t>(version);
    fuzz(
        {memo}, [&](const Seed& bytes) { test::read_table(memo_table, bytes); }, false);
  }
}

TEST_CASE("mutated GeoJSON") {
  fuzz({bytes_of("{\"type\":\"FeatureCollection\",\"features\":[{\"type\":\"Feature\",\"id\":1,\"properties\":{\"a\":1,"
                 "\"b\":[2,{\"c\":null}],\"d\":\"\\u0041\"},"
                 "\"geometry\":{\"type\":\"MultiPolygon\",\"coordinates\":[[[[0,0],[1,0,5],[1e2,1.5],[0,0]]]]}},{"
                 "\"type\":\"Feature\",\"properties\":{\"a\":\"x\"},"
                 "\"geometry\":{\"type\":\"GeometryCollection\",\"geometries\":[{\"type\":\"Point\",\"coordinates\":[1,"
                 "2]}]}}]}")},
       [](const Seed& bytes) {
         GeojsonQuery query;
         query.skip_damaged = bytes.size() % 2 == 0;
         if (bytes.size() % 3 == 0) query.within = Box{0, 0, 1, 1};
         test::read_geojson(std::string(bytes.begin(), bytes.end()), query);
       });
  const std::string line =
      "{\"type\":\"Feature\",\"properties\":{\"a\":1},\"geometry\":{\"type\":\"Point\",\"coordinates\":[1,2]}}";
  fuzz({bytes_of(line + "\n" + line + "\n"), bytes_of("\x1e" + line + "\n\x1e" + line + "\n")}, [](const Seed& bytes) {
    GeojsonQuery query;
    query.skip_damaged = bytes.size() % 2 == 0;
    test::read_geojson(std::string(bytes.begin(), bytes.end()), query);
  });
}

TEST_CASE("mutated well-known binary and text") {
  const StoreBuffer store = test::store_of(
      {"MULTIPOLYGON Z (((0 0 1, 1 0 1, 1 1 1, 0 0 1)))", "GEOMETRYCOLLECTION (POINT (1 1), LINESTRING (0 0, 1 1))"});
  std::vector<Seed> blobs(2), texts;
  for (int i = 0; i < 2; ++i) {
    write_wkb(store.view(), i, blobs[i]);
    texts.push_back(bytes_of(test::text_of(store.view(), i)));
  }
  fuzz(blobs, [](const Seed& bytes) {
    ShapeBuilder builder;
    read_wkb(bytes, builder);
    CHECK_NOTHROW(check_store(builder.take().view()));
  });
  fuzz(texts, [](const Seed& bytes) {
    ShapeBuilder builder;
    read_wkt(std::string(bytes.begin(), bytes.end()), builder);
    CHECK_NOTHROW(check_store(builder.take().view()));
  });
}

TEST_CASE("mutated blobs, tables in text, gzip, KML and Parquet metadata") {
  const StoreBuffer store = test::store_of({"POLYGON ((0 0, 9 0, 9 9, 0 0), (3 1, 4 1, 4 2, 3 1))", "POINT Z (1 2 3)"});
  std::vector<Seed> blobs(2);
  for (int i = 0; i < 2; ++i) write_geopackage_shape(store.view(), i, 4326, blobs[i]);
  fuzz(blobs, [](const Seed& bytes) {
    BlobDecoder decoder(BlobForm::geopackage, -1, Box{0, 0, 5, 5}, false);
    decoder.add({bytes});
  });
  fuzz({bytes_of("a,b,c\n1,\"x, \"\"y\"\"\",3\r\n4,5,6\n")},
       [](const Seed& bytes) { read_delimited(bytes, ',', bytes.size() % 2 == 0); });
  static const Seed content(3000, 'z');
  fuzz({gzip(content)}, [](const Seed& bytes) { gunzip(bytes); });
  fuzz({bytes_of(
           "<MultiGeometry><Polygon><outerBoundaryIs><LinearRing><coordinates>0,0,1 1,0 1,1</coordinates></LinearRing>"
           "</outerBoundaryIs></Polygon><Point><altitudeMode>absolute</altitudeMode><coordinates>1,2</coordinates></"
           "Point></MultiGeometry>")},
       [](const Seed& bytes) {
         ShapeBuilder builder;
         read_kml_geometry(std::string(bytes.begin(), bytes.end()), builder);
         CHECK_NOTHROW(check_store(builder.take().view()));
       });
  fuzz({test::parquet_metadata()}, [](const Seed& bytes) {
    flatten_parquet(bytes, Box{0, 0, 1, 1}, "bbox", {"xmin", "ymin", "xmax", "ymax"});
    group_parquet_columns(bytes, "bbox", {"c"});
  });
  fuzz({test::parquet_file(3), test::parquet_file(40)}, [](const Seed& bytes) {
    const InputFile file{ByteSpan(bytes)};
    const ParquetReader reader(file);
    for (std::size_t group = 0; group < reader.groups(); ++group)
      for (std::size_t field = 0; field < reader.fields().size(); ++field) {
        if (!reader.fields()[field].readable) continue;
        Column column;
        if (reader.fields()[field].type == ColumnType::empty)
          BlobDecoder(BlobForm::wkb, missing_integer, std::nullopt, false).add(reader.blobs(field, group).values);
        else
          reader.read(field, group, column);
      }
  });
  fuzz({Seed{17, 2 << 2, 'a', 'b', 'c', 3 << 2 | 1, 3, 2 << 2 | 2, 3, 0, 3 << 2 | 3, 9, 0, 0, 0}},
       [](const Seed& bytes) { unpack_snappy(bytes, 17); });
}

TEST_CASE("mutated zip archives, grid files and texts of CRSs") {
  static const Seed content(300, 'q');
  fuzz({encode_zip({{"a.txt", content}, {"b", content}})}, [](const Seed& bytes) {
    const InputFile file{ByteSpan(bytes)};
    const ZipReader archive(file);
    for (const auto& entry : archive.entries()) archive.extract(entry);
  });
  fuzz({test::two_grids(false).bytes, test::two_grids(true).bytes},
       [](const Seed& bytes) { GridShift::read(bytes, "fuzzed"); });
  const Registry registry = Registry::load(std::string(CIVIC_ROOT) + "/inst/crs/registry.tsv.gz");
  const Crs utm = *registry.find(32757), krovak = *registry.find(5514);
  fuzz({bytes_of(crs_text(utm, WktSpelling::prj)), bytes_of(crs_text(utm, WktSpelling::wkt1)),
        bytes_of(crs_text(utm, WktSpelling::wkt2)), bytes_of(crs_text(krovak, WktSpelling::prj))},
       [&](const Seed& bytes) { parse_crs_text(std::string(bytes.begin(), bytes.end()), Registry()); });
}

TEST_CASE("mutated conditions and expressions") {
  const std::vector<Seed> seeds = {
      bytes_of("a = 1 AND (b LIKE 'Reef%' OR NOT c BETWEEN -1 AND 2.5e3) AND d IN ('x', 'it''s') AND e IS NOT NULL"),
      bytes_of("S_INTERSECTS(geometry, POLYGON((0 0, 1 0, 1 1, 0 0))) OR s_within(geometry, BBOX(0, 1, 2, 3))"),
      bytes_of("T_DURING(opened, INTERVAL('2026-01-01', '..')) AND t > TIMESTAMP('2026-11-29T06:30:00Z')"),
      bytes_of("CASEI(ACCENTI(\"naïve name\")) = CASEI('Stra\xc3\x9f' || 'e') && x div 2 % 3 ^ 2 <> -y"),
      bytes_of("rooms = count(*), per = CASE WHEN a > 1 THEN round(1000 * b / c, 1) ELSE NULL END, upper(trim(d))"),
  };
  fuzz(seeds, [](const Seed& seed) {
    const std::string text(seed.begin(), seed.end());
    try {
      parse_named_expressions(text);
    } catch (const ExpressionError& problem) {
      CHECK(problem.span.begin <= text.size());
      CHECK(problem.span.end <= text.size() + 1);
    }
    parse_condition(text);
  });
}
