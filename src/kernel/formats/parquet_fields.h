// Numbers of fields and types in Parquet's metadata (parquet.thrift of Apache Parquet format 2.10).
#pragma once

namespace civic::parquet {

enum Physical { boolean = 0, int32 = 1, int64 = 2, float32 = 4, float64 = 5, bytes = 6 };
enum Converted {
  utf8 = 0,
  list_type = 3,
  enumeration = 4,
  date = 6,
  timestamp_millis = 9,
  timestamp_micros = 10,
  json = 19
};
enum Codec { unpacked = 0, snappy = 1, gzip = 2 };
enum Encoding { plain = 0, plain_dictionary = 2, rle = 3, rle_dictionary = 8 };
enum PageType { data_page = 0, dictionary_page = 2, data_page_v2 = 3 };
enum Repetition { required = 0, optional = 1 };

namespace file {
enum { version = 1, schema = 2, rows = 3, row_groups = 4, texts = 5, created_by = 6 };
}
namespace element {
enum { type = 1, repetition = 3, name = 4, children = 5, converted = 6, logical = 10 };
}
namespace group {
enum { columns = 1, bytes = 2, rows = 3 };
}
namespace chunk {
enum { file = 1, offset = 2, metadata = 3, crypto = 8 };
}
namespace column {
enum {
  type = 1,
  encodings = 2,
  path = 3,
  codec = 4,
  values = 5,
  unpacked_size = 6,
  packed_size = 7,
  data_page = 9,
  dictionary_page = 11,
  statistics = 12
};
}
namespace statistics {
enum { missing = 3, greatest = 5, least = 6 };
}
namespace page {
enum { type = 1, unpacked_size = 2, packed_size = 3, data = 5, dictionary = 7, data_v2 = 8 };
}
namespace data {
enum { values = 1, encoding = 2, definition = 3, repetition = 4 };
}
namespace data_v2 {
enum { values = 1, missing = 2, rows = 3, encoding = 4, definition_size = 5, repetition_size = 6, packed = 7 };
}

}  // namespace civic::parquet
