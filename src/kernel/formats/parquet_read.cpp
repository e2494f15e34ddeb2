#include <algorithm>
#include <cmath>
#include <functional>

#include "../base/error.h"
#include "../io/deflate.h"
#include "../io/unpack_limit.h"
#include "parquet_fields.h"
#include "parquet_file.h"
#include "snappy.h"
#include "thrift.h"

namespace civic {
namespace {

namespace pq = parquet;
using thrift::Value;

[[noreturn]] void damaged(const std::string& what) { throw FormatError("the Parquet file is damaged: " + what); }

std::size_t size_of(std::int64_t n) {
  if (n < 0) damaged("a size below 0");
  return static_cast<std::size_t>(n);
}

// The metadata stands before the last eight bytes, which are its size and the mark.
Value metadata_of(const InputFile& file) {
  if (file.size() < 12) damaged("it is too short");
  const FileContent tail = file.read(file.size() - 8, 8);
  if (std::memcmp(tail.bytes().data() + 4, "PAR1", 4) != 0) damaged("it does not end as one");
  const std::size_t size = little<std::uint32_t>(tail.bytes().data());
  if (size > file.size() - 12) damaged("its metadata is longer than the file");
  return thrift::read_record(file.read(file.size() - 8 - size, size).bytes());
}

// What a leaf of the schema holds, where it can be read here.
void settle_type(Value& leaf, ParquetField& field, int& width, double& scale) {
  const std::int64_t type = leaf.number_of(pq::element::type, -1),
                     converted = leaf.number_of(pq::element::converted, -1);
  Value* logical = leaf.field(pq::element::logical);
  const int meant = logical && !logical->fields.empty() ? logical->fields[0].id : 0;
  enum { text = 1, calendar_date = 6, timestamp = 8, integer = 10, json = 12, shape = 17, globe_shape = 18 };
  // Numbers without a sign, which are beyond what stands for them here, are left to others.
  const Value* sign = meant == integer ? logical->fields[0].value.field(2) : nullptr;
  const bool has_sign = meant == 0 || (sign && sign->wire == thrift::yes);
  const bool whole = (converted == -1 && has_sign) || converted == 17 || converted == 18;
  field.readable = true;
  if (type == pq::boolean) {
    field.type = ColumnType::logical;
    width = 0;
  } else if (type == pq::int32 && (converted == pq::date || meant == calendar_date)) {
    field.type = ColumnType::date;
    width = 4;
  } else if (type == pq::int32 && (whole || converted == 15 || converted == 16)) {
    // Without a sign of 32 bits is none of those.
    field.type = ColumnType::integer;
    width = 4;
  } else if (type == pq::int64 && whole) {
    field.type = ColumnType::real;
    width = 8;
  } else if (type == pq::int64 &&
             (converted == pq::timestamp_millis || converted == pq::timestamp_micros || meant == timestamp)) {
    field.type = ColumnType::datetime;
    width = 8;
    Value* unit = meant == timestamp ? logical->fields[0].value.field(2) : nullptr;
    const int named = unit && !unit->fields.empty() ? unit->fields[0].id : converted == pq::timestamp_millis ? 1 : 2;
    scale = named == 1 ? 1e3 : named == 2 ? 1e6 : 1e9;
  } else if (type == pq::float32 || type == pq::float64) {
    field.type = ColumnType::real;
    width = type == pq::float32 ? 4 : 8;
    field.readable = converted == -1 && meant == 0;
  } else if (type == pq::bytes) {
    const bool is_text = converted == pq::utf8 || converted == pq::enumeration || converted == pq::json ||
                         meant == text || meant == json;
    field.type = is_text ? ColumnType::text : ColumnType::empty;
    field.readable = is_text || (converted == -1 && (meant == 0 || meant == shape || meant == globe_shape));
  } else {
    field.readable = false;
  }
}

bool can_unpack(std::int64_t codec) { return codec == pq::unpacked || codec == pq::snappy || codec == pq::gzip; }

// Numbers of a few bits each, in runs of one value or packed together (Encodings.md, "Run Length Encoding / Bit-Packing
// Hybrid").
void read_runs(ByteSpan bytes, int bits, std::size_t count, std::vector<std::uint32_t>& out) {
  std::size_t at = 0;
  const auto take = [&] {
    if (at >= bytes.size()) damaged("a page is cut off");
    return bytes[at++];
  };
  out.clear();
  out.reserve(std::min(count, 8 * bytes.size()));  // a run may be of many more, which few bytes only claim
  while (out.size() < count) {
    std::uint64_t head = 0;
    for (int shift = 0;; shift += 7) {
      const std::uint8_t byte = take();
      if (shift > 28) damaged("a run in a page is too long");
      head |= static_cast<std::uint64_t>(byte & 127) << shift;
      if (byte < 128) break;
    }
    if (head & 1) {
      std::uint64_t held = 0;
      int holding = 0;
      for (std::uint64_t left = (head >> 1) * 8; left > 0 && out.size() < count; --left) {
        for (; holding < bits; holding += 8) held |= static_cast<std::uint64_t>(take()) << holding;
        out.push_back(static_cast<std::uint32_t>(held & ((std::uint64_t{1} << bits) - 1)));
        held >>= bits;
        holding -= bits;
      }
    } else {
      std::uint32_t value = 0;
      for (int shift = 0; shift < bits; shift += 8) value |= static_cast<std::uint32_t>(take()) << shift;
      const std::uint64_t run = std::min<std::uint64_t>(head >> 1, count - out.size());
      if (run == 0 || (bits < 32 && value >> bits != 0)) damaged("a run in a page is not what it says");
      out.insert(out.end(), run, value);
    }
  }
}

constexpr std::uint8_t bits_alone[2] = {0, 1};

// Where values of a plain page stand. `width` is 0 for one bit each, -1 where each is after its length.
void plain_values(ByteSpan bytes, int width, std::size_t count, std::vector<ByteSpan>& out) {
  std::size_t at = 0;
  const auto need = [&](std::size_t size) {
    if (size > bytes.size() - at) damaged("a page is cut off");
  };
  out.reserve(out.size() + count);
  if (width == 0) need((count + 7) / 8);
  if (width > 0) need(count * static_cast<std::size_t>(width));
  for (std::size_t i = 0; i < count; ++i) {
    if (width == 0) {
      out.push_back({&bits_alone[bytes[i / 8] >> (i % 8) & 1], 1});
      continue;
    }
    std::size_t size = static_cast<std::size_t>(width);
    if (width < 0) {
      need(4);
      size = little<std::uint32_t>(bytes.data() + at);
      at += 4;
      need(size);
    }
    out.push_back(bytes.subspan(at, size));
    at += size;
  }
}

FileContent unpack(ByteSpan packed, int codec, std::size_t size, std::size_t source) {
  need_room(size, source);
  if (codec == pq::snappy) return unpack_snappy(packed, size);
  FileContent content = gunzip(packed);
  if (content.bytes().size() != size) damaged("a page unpacks to another size");
  return content;
}

}  // namespace

ParquetReader::ParquetReader(const InputFile& file) : file_(file) {
  Value metadata = metadata_of(file);
  std::vector<Value>& elements = metadata.need(pq::file::schema, thrift::list).items;
  std::vector<std::size_t> leaf_of_field;  // the number of the first leaf of each field
  std::size_t leaf = 0;
  for (std::size_t at = 1; at < elements.size();) {
    ParquetField field;
    Kind kind;
    field.name = elements[at].need(pq::element::name, thrift::binary).bytes;
    const std::int64_t repetition = elements[at].number_of(pq::element::repetition, pq::required);
    kind.width = -1;
    leaf_of_field.push_back(leaf);
    if (elements[at].number_of(pq::element::children, 0) > 0) {
      for (std::int64_t left = 1; left > 0 && at < elements.size(); --left, ++at) {
        const std::int64_t children = elements[at].number_of(pq::element::children, 0);
        if (children > 0) left += children;
        if (children <= 0) ++leaf;
      }
    } else {
      if (repetition == pq::required || repetition == pq::optional)
        settle_type(elements[at], field, kind.width, kind.scale);
      kind.physical = static_cast<int>(elements[at].number_of(pq::element::type, -1));
      kind.required = repetition == pq::required;
      ++leaf;
      ++at;
    }
    fields_.push_back(std::move(field));
    kinds_.push_back(kind);
  }
  for (Value& rows : metadata.need(pq::file::row_groups, thrift::list).items) {
    Group group;
    group.rows = size_of(rows.need(pq::group::rows, thrift::i64).wire ? rows.number_of(pq::group::rows, 0) : 0);
    if (group.rows > 0x7fffffff) damaged("a group of more rows than can be counted");
    std::vector<Value>& chunks = rows.need(pq::group::columns, thrift::list).items;
    if (chunks.size() != leaf) damaged("a group of rows lacks columns");
    for (std::size_t f = 0; f < fields_.size(); ++f) {
      Value& about = chunks[leaf_of_field[f]].need(pq::chunk::metadata, thrift::record);
      const std::size_t data = size_of(about.number_of(pq::column::data_page, 0));
      const std::size_t dictionary = size_of(about.number_of(pq::column::dictionary_page, 0));
      Chunk chunk;
      chunk.at = dictionary > 0 ? std::min(dictionary, data) : data;
      chunk.size = size_of(about.number_of(pq::column::packed_size, 0));
      chunk.values = size_of(about.number_of(pq::column::values, 0));
      chunk.codec = static_cast<int>(about.number_of(pq::column::codec, 0));
      if (!can_unpack(chunk.codec) || chunks[leaf_of_field[f]].field(pq::chunk::file)) fields_[f].readable = false;
      for (const Value& encoding : about.need(pq::column::encodings, thrift::list).items) {
        const std::int64_t which = thrift::unzigzag(encoding.number);
        if (which != pq::plain && which != pq::plain_dictionary && which != pq::rle && which != pq::rle_dictionary)
          fields_[f].readable = false;
      }
      group.chunks.push_back(chunk);
    }
    groups_.push_back(std::move(group));
  }
  if (Value* texts = metadata.field(pq::file::texts))
    for (Value& pair : texts->items)
      if (const Value* value = pair.field(2)) texts_[pair.need(1, thrift::binary).bytes] = value->bytes;
}

std::optional<std::string> ParquetReader::text(const std::string& key) const {
  const auto found = texts_.find(key);
  return found == texts_.end() ? std::nullopt : std::optional(found->second);
}

// A chunk's values, in pages that are kept; of missing ones the data of a span is null.
struct ParquetReader::Values {
  std::vector<FileContent> kept;
  std::vector<ByteSpan> all;
};

namespace {

// A page of values: how many there are, which of them are (empty where all), and the encoded ones.
struct DataPage {
  std::size_t count = 0;
  std::int64_t encoding = 0;
  std::vector<std::uint32_t> levels;
  ByteSpan bytes;

  std::size_t present() const {
    return levels.empty() ? count : static_cast<std::size_t>(std::count(levels.begin(), levels.end(), 1u));
  }
};

// Gives the unpacked bytes of a stretch of so many.
using Unpack = std::function<ByteSpan(ByteSpan bytes, std::size_t size, bool packed)>;

// The levels stand in front of the values, packed together with them.
DataPage first_version(Value& page, ByteSpan body, std::size_t size, bool required, std::size_t most,
                       const Unpack& content) {
  Value& about = page.need(pq::page::data, thrift::record);
  DataPage out;
  out.count = size_of(about.number_of(pq::data::values, 0));
  out.encoding = about.number_of(pq::data::encoding, 0);
  out.bytes = content(body, size, true);
  if (out.count > most) damaged("a page has more values than there are rows");
  if (required) return out;
  if (out.bytes.size() < 4) damaged("a page is cut off");
  const std::size_t length = little<std::uint32_t>(out.bytes.data());
  if (length > out.bytes.size() - 4) damaged("a page is cut off");
  read_runs(out.bytes.subspan(4, length), 1, out.count, out.levels);
  out.bytes = out.bytes.subspan(4 + length);
  return out;
}

// The levels are never packed.
DataPage second_version(Value& page, ByteSpan body, std::size_t size, bool required, std::size_t most,
                        const Unpack& content) {
  Value& about = page.need(pq::page::data_v2, thrift::record);
  DataPage out;
  out.count = size_of(about.number_of(pq::data_v2::values, 0));
  out.encoding = about.number_of(pq::data_v2::encoding, 0);
  const std::size_t length = size_of(about.number_of(pq::data_v2::definition_size, 0));
  if (out.count > most) damaged("a page has more values than there are rows");
  if (about.number_of(pq::data_v2::repetition_size, 0) != 0 || length > body.size() || length > size)
    damaged("a page of a flat column repeats");
  if (!required) read_runs(body.subspan(0, length), 1, out.count, out.levels);
  const Value* packed = about.field(pq::data_v2::packed);
  out.bytes = content(body.subspan(length), size - length, !packed || packed->wire == thrift::yes);
  return out;
}

// Where the values of a page that are there stand.
std::vector<ByteSpan> values_of_page(const DataPage& page, int width, bool logical,
                                     const std::vector<ByteSpan>& dictionary) {
  std::vector<ByteSpan> out;
  std::vector<std::uint32_t> numbers;
  const std::size_t present = page.present();
  if (page.encoding == pq::plain) {
    plain_values(page.bytes, width, present, out);
  } else if (page.encoding == pq::plain_dictionary || page.encoding == pq::rle_dictionary) {
    if (present == 0) return out;
    if (page.bytes.empty()) damaged("a page is cut off");
    if (page.bytes[0] > 32) damaged("a dictionary of too many values");
    read_runs(page.bytes.subspan(1), page.bytes[0], present, numbers);
    for (const std::uint32_t number : numbers) {
      if (number >= dictionary.size()) damaged("a value is not in its dictionary");
      out.push_back(dictionary[number]);
    }
  } else if (page.encoding == pq::rle && logical) {
    if (page.bytes.size() < 4) damaged("a page is cut off");
    read_runs(page.bytes.subspan(4), 1, present, numbers);
    for (const std::uint32_t bit : numbers) out.push_back({&bits_alone[bit], 1});
  } else {
    damaged("a page is encoded as its column does not say");
  }
  return out;
}

}  // namespace

ParquetReader::Values ParquetReader::values(std::size_t field, std::size_t group) const {
  const Chunk& chunk = groups_[group].chunks[field];
  const Kind& kind = kinds_[field];
  const std::size_t rows = groups_[group].rows;
  if (chunk.at > file_.size() || chunk.size > file_.size() - chunk.at) damaged("a column lies beyond the end");
  need_room(rows * sizeof(ByteSpan), file_.size());
  Values out;
  out.kept.push_back(file_.read(chunk.at, chunk.size));
  // What is not packed stays where it was read.
  const auto content = [&](ByteSpan bytes, std::size_t size, bool packed) {
    if (!packed || chunk.codec == pq::unpacked || (bytes.empty() && size == 0)) {
      if (bytes.size() != size) damaged("a page has another size");
      return bytes;
    }
    out.kept.push_back(unpack(bytes, chunk.codec, size, file_.size()));
    return out.kept.back().bytes();
  };
  std::vector<ByteSpan> dictionary;
  for (ByteSpan rest = out.kept.back().bytes(); out.all.size() < rows;) {
    std::size_t taken = 0;
    Value page = thrift::read_record(rest, &taken);
    const std::size_t packed = size_of(page.number_of(pq::page::packed_size, 0));
    const std::size_t size = size_of(page.number_of(pq::page::unpacked_size, 0));
    if (packed > rest.size() - taken) damaged("a page is cut off");
    const ByteSpan body = rest.subspan(taken, packed);
    rest = rest.subspan(taken + packed);
    const std::int64_t type = page.number_of(pq::page::type, -1);
    if (type == pq::dictionary_page) {
      const std::size_t count = size_of(page.need(pq::page::dictionary, thrift::record).number_of(1, 0));
      const ByteSpan bytes = content(body, size, true);
      if (count > 8 * bytes.size() + 1) damaged("a dictionary is cut off");
      dictionary.clear();
      plain_values(bytes, kind.width, count, dictionary);
    }
    if (type != pq::data_page && type != pq::data_page_v2) continue;  // an index, say
    const auto read = type == pq::data_page ? first_version : second_version;
    const DataPage data = read(page, body, size, kind.required, rows - out.all.size(), content);
    const std::vector<ByteSpan> present = values_of_page(data, kind.width, kind.physical == pq::boolean, dictionary);
    auto next = present.begin();
    for (std::size_t i = 0; i < data.count; ++i)
      out.all.push_back(data.levels.empty() || data.levels[i] == 1 ? *next++ : ByteSpan{});
  }
  return out;
}

namespace {

constexpr std::int64_t most_whole = std::int64_t{1} << 53;  // of which every double is one whole number

std::int64_t whole_number(ByteSpan value) {
  return value.size() == 4 ? little<std::int32_t>(value.data()) : little<std::int64_t>(value.data());
}

double real_number(ByteSpan value) {
  return value.size() == 4 ? static_cast<double>(little<float>(value.data())) : little<double>(value.data());
}

bool is_beyond(ByteSpan value) {
  if (!value.data()) return false;
  const std::int64_t n = whole_number(value);
  return n > most_whole || n < -most_whole;
}

// The whole numbers that a column has so far as text.
void turn_into_text(Column& column) {
  column.type = ColumnType::text;
  for (const double value : column.reals) {
    if (std::isnan(value))
      column.texts.push_missing();
    else
      column.texts.push(std::to_string(static_cast<std::int64_t>(value)));
  }
  column.reals.clear();
}

}  // namespace

void ParquetReader::read(std::size_t field, std::size_t group, Column& column) const {
  const Values found = values(field, group);
  const Kind& kind = kinds_[field];
  const ColumnType type = fields_[field].type;
  if (column.type != ColumnType::text) column.type = type;
  const bool whole = kind.physical == pq::int32 || kind.physical == pq::int64;
  if (type == ColumnType::real && kind.physical == pq::int64 && column.type != ColumnType::text &&
      std::any_of(found.all.begin(), found.all.end(), is_beyond))
    turn_into_text(column);
  for (const ByteSpan value : found.all) {
    const bool missing = value.data() == nullptr;
    if (column.type == ColumnType::text) {
      if (missing)
        column.texts.push_missing();
      else if (type == ColumnType::text)
        column.texts.push({reinterpret_cast<const char*>(value.data()), value.size()});
      else
        column.texts.push(std::to_string(whole_number(value)));
    } else if (type == ColumnType::logical) {
      column.integers.push_back(missing ? missing_integer : value[0]);
    } else if (type == ColumnType::integer) {
      column.integers.push_back(missing ? missing_integer : static_cast<int>(whole_number(value)));
    } else if (missing) {
      column.reals.push_back(nan_value);
    } else {
      column.reals.push_back(whole ? static_cast<double>(whole_number(value)) / kind.scale : real_number(value));
    }
  }
}

ParquetReader::Blobs ParquetReader::blobs(std::size_t field, std::size_t group) const {
  Values found = values(field, group);
  return {std::move(found.kept), std::move(found.all)};
}

}  // namespace civic
