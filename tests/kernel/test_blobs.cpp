#include <catch2/catch.hpp>

#include "bytes_by_hand.h"
#include "kernel/base/error.h"
#include "kernel/formats/blobs.h"
#include "kernel/formats/geopackage.h"
#include "kernel/shapes/wkb.h"
#include "reading.h"

using namespace civic;

namespace {

// The GeoPackage blob of a point, made by hand in little-endian form.
test::Bytes point_blob(double x, double y, std::uint8_t flags = 1) {
  test::ByteMaker blob;
  blob.bytes = {'G', 'P', 0, flags};
  blob.little(32757);
  if (flags >> 1 & 7) blob.real(x).real(x).real(y).real(y);
  blob.bytes.push_back(1);
  blob.little(1).real(x).real(y);
  return blob.bytes;
}

StoreBuffer joined(const BlobDecoder& decoder) {
  const auto stores = decoder.stores();
  StoreBuffer out(count_all(stores));
  concatenate(stores, out.target());
  return out;
}

}  // namespace

TEST_CASE("blobs made by hand are read, in both byte orders and with an envelope") {
  const GeopackageHeader header = read_geopackage_header(point_blob(1, 2, 3));
  CHECK((header.srs_id == 32757 && header.size == 40 && header.envelope && header.envelope->ymax == 2));
  // Big-endian: the header's CRS and an envelope from 1 to 2, 3 to 4.
  test::Bytes big{'G', 'P', 0, 2, 0, 0, 0x10, 0xe6};
  for (const char first : {'\x3f', '\x40', '\x40', '\x40'}) {
    const std::uint8_t second = first == 0x3f ? 0xf0 : big.size() == 16 ? 0x00 : big.size() == 24 ? 0x08 : 0x10;
    big.insert(big.end(), {static_cast<std::uint8_t>(first), second, 0, 0, 0, 0, 0, 0});
  }
  const GeopackageHeader other = read_geopackage_header(big);
  CHECK((other.srs_id == 4326 && other.envelope->xmin == 1 && other.envelope->xmax == 2));
  CHECK((other.envelope->ymin == 3 && other.envelope->ymax == 4));

  BlobDecoder decoder(BlobForm::geopackage, -1, std::nullopt, false);
  const test::Bytes a = point_blob(1, 2), b = point_blob(3, 4, 3);
  CHECK(decoder.add({a, {}, b}) == std::vector<char>{1, 1, 1});
  decoder.add({a});
  CHECK(decoder.handles() == std::vector<int>{1, -1, 2, 3});
  CHECK(test::text_of(joined(decoder).view(), 1) == "POINT (3 4)");
}

TEST_CASE("what is written reads back, and a window keeps what a test of every box keeps") {
  std::mt19937 random(3);
  std::uniform_real_distribution<double> any(0, 100);
  std::vector<std::string> texts{"MULTIPOLYGON Z (((0 0 1, 1 0 1, 1 1 1, 0 0 1)))", "LINESTRING M (0 0 5, 9 9 6)",
                                 "POLYGON EMPTY"};
  for (int i = 0; i < 9000; ++i) texts.push_back(test::random_star(random, any(random), any(random), 3, 5));
  const StoreBuffer store = test::store_of(texts);
  for (const BlobForm form : {BlobForm::wkb, BlobForm::geopackage}) {
    std::vector<test::Bytes> blobs(texts.size());
    for (std::size_t i = 0; i < texts.size(); ++i)
      form == BlobForm::wkb ? write_wkb(store.view(), static_cast<int>(i), blobs[i])
                            : write_geopackage_shape(store.view(), static_cast<int>(i), 4326, blobs[i]);
    const std::vector<ByteSpan> spans(blobs.begin(), blobs.end());
    BlobDecoder all(form, -1, std::nullopt, false);
    all.add(spans);
    const StoreBuffer again = joined(all);
    for (int i : {0, 1, 2, 500, 9002}) CHECK(test::text_of(again.view(), i) == test::text_of(store.view(), i));

    const Box window{20, 20, 30, 40};
    BlobDecoder some(form, -1, window, false);
    const auto kept = some.add(spans);
    for (std::size_t i = 0; i < texts.size(); ++i) REQUIRE(kept[i] == store.boxes[i].meets(window));
    CHECK(some.handles().size() == static_cast<std::size_t>(std::count(kept.begin(), kept.end(), 1)));
    CHECK(joined(some).types.size() == some.handles().size());
  }
}

TEST_CASE("damaged blobs are refused with their row, or skipped when asked") {
  test::Bytes good = point_blob(1, 2), bad = good;
  bad[0] = 'X';
  BlobDecoder strict(BlobForm::geopackage, -1, std::nullopt, false);
  CHECK_THROWS_WITH(strict.add({good, bad}), Catch::Contains("row 2") && Catch::Contains("byte 0"));
  bad = good;
  bad.resize(bad.size() - 3);
  BlobDecoder lenient(BlobForm::geopackage, -1, std::nullopt, true);
  lenient.add({good, bad, good});
  CHECK(lenient.handles() == std::vector<int>{1, -1, 2});
  CHECK(test::noted(lenient.notices(), "damaged"));
  for (std::size_t n = 0; n < good.size(); ++n) {
    BlobDecoder cut(BlobForm::geopackage, -1, std::nullopt, false);
    if (n > 0) CHECK_THROWS_AS(cut.add({ByteSpan(good.data(), n)}), FormatError);
  }
}
