// Text tables with a separator (RFC 4180): a header line, quotes around fields that hold the separator or line ends.
#pragma once
#include <vector>

#include "../io/bytes.h"
#include "columns.h"

namespace civic {

struct DelimitedTable {
  std::vector<Column> columns;  // of text; a field that is empty without quotes is missing
  std::size_t lines = 0;        // below the header, kept or not
  Notices notices;
};

// Reads a table in UTF-8. Throws FormatError that names the line where a line has more or fewer fields than the header,
// or a quote does not end; with `skip_damaged` such lines are noted and left out.
DelimitedTable read_delimited(ByteSpan text, char separator, bool skip_damaged);

// Makes a column of text one of numbers, missing where it was missing or blank, if all are numbers as tables write
// them: digits without leading zeros, which names have, perhaps with a sign, a point and an exponent. Whole ones beyond
// 2^53, which would lose digits, stay text. In a column of numbers NA, as R writes it, is missing too.
void settle_numbers(Column& column);

// How many bytes the whole records take that start a stretch of a text of records a line: all of them, or the first.
// `quoted`: line ends within quotes end no record.
std::size_t whole_records(ByteSpan text, bool quoted, bool first);

}  // namespace civic
