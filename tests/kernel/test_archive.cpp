#include <catch2/catch.hpp>

#include "bytes_by_hand.h"
#include "kernel/base/error.h"
#include "kernel/formats/zip.h"
#include "kernel/io/deflate.h"

using namespace civic;

TEST_CASE("zip archives keep their entries, and damage shows") {
  const std::vector<std::uint8_t> a(100000, 'a'), b{'x', 'y'}, none;
  const auto bytes = encode_zip({{"long.txt", a}, {"dir/short.txt", b}, {"empty", none}});
  const InputFile file{ByteSpan(bytes)};
  const ZipReader archive(file);
  REQUIRE(archive.entries().size() == 3);
  for (const auto& [entry, content] : {std::pair{0, a}, {1, b}, {2, none}}) {
    const FileContent got = archive.extract(archive.entries()[entry]);
    CHECK(std::equal(got.bytes().begin(), got.bytes().end(), content.begin(), content.end()));
  }
  auto damaged = bytes;
  damaged[45] ^= 1;
  const InputFile damaged_file{ByteSpan(damaged)}, no_zip{ByteSpan(b)};
  const ZipReader damaged_archive(damaged_file);
  CHECK_THROWS_AS(damaged_archive.extract(damaged_archive.entries()[0]), FormatError);
  CHECK_THROWS_WITH(archive.entry("other"), Catch::Contains("no entry other"));
  CHECK_THROWS_AS(ZipReader(no_zip), FormatError);
  auto lying = archive.entries()[1];
  lying.size = 4000000000u;
  CHECK_THROWS_WITH(archive.extract(lying), Catch::Contains("announces a size"));
}

TEST_CASE("names of entries that are not UTF-8 are read as code page 437") {
  const std::vector<std::uint8_t> content{'x'};
  const std::string old_sharp = "\xe1", sharp = "\xc3\x9f";  // code page 437 and UTF-8
  const auto bytes = encode_zip({{old_sharp + ".shp", content}, {sharp + ".dbf", content}, {"\x80\xff", content}});
  const InputFile file{ByteSpan(bytes)};
  const ZipReader archive(file);
  CHECK(archive.entries()[0].name == sharp + ".shp");
  CHECK(archive.entries()[1].name == sharp + ".dbf");
  CHECK(archive.entries()[2].name == "\xc3\x87\xc2\xa0");
  CHECK(archive.extract(archive.entry(sharp + ".shp")).bytes()[0] == 'x');
}

TEST_CASE("an archive made by hand with 64-bit sizes is read") {
  auto wide = [](test::ByteMaker& to, std::uint64_t v) {
    to.little(static_cast<std::uint32_t>(v)).little(static_cast<std::uint32_t>(v >> 32));
  };
  auto half = [](test::ByteMaker& to, unsigned v) {
    to.text(std::string{static_cast<char>(v & 255), static_cast<char>(v >> 8)}, 2);
  };
  // "hi", stored; its CRC-32 is 0xd8932aac.
  test::ByteMaker zip;
  zip.little(0x04034b50);
  for (unsigned v : {45u, 0u, 0u, 0u, 0u}) half(zip, v);
  zip.little(0xd8932aac).little(2).little(2);
  half(zip, 1);
  half(zip, 0);
  zip.text("a", 1).text("hi", 2);
  const auto directory = static_cast<std::uint32_t>(zip.bytes.size());
  zip.little(0x02014b50);
  for (unsigned v : {45u, 45u, 0u, 0u, 0u, 0u}) half(zip, v);
  zip.little(0xd8932aac).little(0xffffffff).little(0xffffffff);
  for (unsigned v : {1u, 28u, 0u, 0u, 0u}) half(zip, v);
  zip.little(0).little(0xffffffff).text("a", 1);
  half(zip, 1);
  half(zip, 24);
  for (std::uint64_t v : {2u, 2u, 0u}) wide(zip, v);
  const auto size = static_cast<std::uint32_t>(zip.bytes.size()) - directory;
  const auto end64 = zip.bytes.size();
  zip.little(0x06064b50);
  wide(zip, 44);
  half(zip, 45);
  half(zip, 45);
  zip.little(0).little(0);
  for (std::uint64_t v : {std::uint64_t{1}, std::uint64_t{1}, std::uint64_t{size}, std::uint64_t{directory}})
    wide(zip, v);
  zip.little(0x07064b50).little(0);
  wide(zip, end64);
  zip.little(1).little(0x06054b50);
  for (unsigned v : {0u, 0u, 0xffffu, 0xffffu}) half(zip, v);
  zip.little(0xffffffff).little(0xffffffff);
  half(zip, 0);

  const InputFile file{ByteSpan(zip.bytes)};
  const ZipReader archive(file);
  REQUIRE(archive.entries().size() == 1);
  const FileContent content = archive.extract(archive.entry("a"));
  CHECK(std::string(content.bytes().begin(), content.bytes().end()) == "hi");
}

TEST_CASE("gzip goes there and back, in several members, and damage shows") {
  std::vector<std::uint8_t> text(200000);
  for (std::size_t i = 0; i < text.size(); ++i) text[i] = static_cast<std::uint8_t>(i * i >> 7);
  auto packed = gzip(text);
  CHECK(is_gzip(packed));
  const FileContent once = gunzip(packed);
  CHECK(std::equal(once.bytes().begin(), once.bytes().end(), text.begin(), text.end()));
  auto twice = packed;
  twice.insert(twice.end(), packed.begin(), packed.end());
  CHECK(gunzip(twice).bytes().size() == 2 * text.size());
  const auto nothing = gzip({});
  CHECK(gunzip(nothing).bytes().empty());
  packed.resize(packed.size() / 2);
  CHECK_THROWS_WITH(gunzip(packed), Catch::Contains("cut off"));
}
