#include "bind.h"
#include "kernel/base/error.h"
#include "kernel/formats/blobs.h"
#include "kernel/formats/parquet_file.h"

using namespace Rcpp;
using namespace civic;

namespace {

struct OpenParquet {
  InputFile file;
  ParquetReader reader;
  explicit OpenParquet(const std::string& path) : file(path), reader(file) {}
};

const char* type_name(ColumnType type) {
  switch (type) {
    case ColumnType::logical:
      return "logical";
    case ColumnType::integer:
      return "integer";
    case ColumnType::real:
      return "double";
    case ColumnType::text:
      return "character";
    case ColumnType::date:
      return "Date";
    case ColumnType::datetime:
      return "POSIXct";
    default:
      return "bytes";
  }
}

std::size_t checked(int number, std::size_t all) {
  if (number < 1 || static_cast<std::size_t>(number) > all) throw ArgumentError("there is no such part of the file");
  return static_cast<std::size_t>(number) - 1;
}

}  // namespace

// [[Rcpp::export]]
SEXP core_open_parquet(std::string path) { return XPtr<OpenParquet>(new OpenParquet(path)); }

// Lets go of the file.
// [[Rcpp::export]]
void core_close_parquet(SEXP parquet) { XPtr<OpenParquet>(parquet).release(); }

// Names and types of the columns, which of them can be read here, the rows of each group, and what stands under the key
// "geo".
// [[Rcpp::export]]
List core_about_parquet(SEXP parquet) {
  const ParquetReader& reader = XPtr<OpenParquet>(parquet)->reader;
  CharacterVector names, types;
  LogicalVector readable;
  for (const ParquetField& field : reader.fields()) {
    names.push_back(String(field.name, CE_UTF8));
    types.push_back(type_name(field.type));
    readable.push_back(field.readable);
  }
  NumericVector rows;
  for (std::size_t g = 0; g < reader.groups(); ++g) rows.push_back(static_cast<double>(reader.rows(g)));
  const auto geo = reader.text("geo");
  return List::create(_["names"] = names, _["types"] = types, _["readable"] = readable, _["rows"] = rows,
                      _["geo"] = geo ? RObject(CharacterVector::create(String(*geo, CE_UTF8))) : RObject(R_NilValue));
}

// [[Rcpp::export]]
List core_read_parquet(SEXP parquet, IntegerVector fields, IntegerVector groups) {
  const ParquetReader& reader = XPtr<OpenParquet>(parquet)->reader;
  std::vector<Column> columns;
  for (const int number : fields) {
    const std::size_t field = checked(number, reader.fields().size());
    Column& column = columns.emplace_back();
    column.name = reader.fields()[field].name;
    column.type = groups.size() == 0 ? reader.fields()[field].type : ColumnType::empty;
    for (const int group : groups) reader.read(field, checked(group, reader.groups()), column);
  }
  return r_columns(columns);
}

// The shapes of a column of well-known binary, and which of the rows are kept.
// [[Rcpp::export]]
List core_parquet_shapes(SEXP parquet, int field, IntegerVector groups, Nullable<NumericVector> within,
                         bool skip_damaged) {
  const ParquetReader& reader = XPtr<OpenParquet>(parquet)->reader;
  BlobDecoder decoder(BlobForm::wkb, NA_INTEGER, optional_box(within), skip_damaged);
  std::vector<char> kept;
  for (const int group : groups) {
    const ParquetReader::Blobs blobs =
        reader.blobs(checked(field, reader.fields().size()), checked(group, reader.groups()));
    const std::vector<char> of_group = decoder.add(blobs.values);
    kept.insert(kept.end(), of_group.begin(), of_group.end());
  }
  List out = r_blobs(decoder);
  out["kept"] = LogicalVector(kept.begin(), kept.end());
  return out;
}

// `columns` without rows tell names and types; an empty `shape_name` stands for a table without shapes.
// [[Rcpp::export]]
SEXP core_create_parquet(std::string path, List columns, std::string shape_name) {
  return XPtr<ParquetWriter>(new ParquetWriter(path, kernel_columns(columns), shape_name));
}

// Adds a group of rows; `store` is NULL for a table without shapes.
// [[Rcpp::export]]
void core_add_to_parquet(SEXP writer, List columns, IntegerVector handles, Nullable<List> store, double rows) {
  const XPtr<ParquetWriter> parquet(writer);
  if (store.isNull()) return parquet->add(kernel_columns(columns), nullptr, static_cast<std::size_t>(rows));
  const ShapeRows shapes = shape_rows(handles, List(store));
  parquet->add(kernel_columns(columns), &shapes, static_cast<std::size_t>(rows));
}

// Ends the file with metadata under keys, and puts it in its place.
// [[Rcpp::export]]
void core_finish_parquet(SEXP writer, CharacterVector metadata) {
  std::vector<std::pair<std::string, std::string>> texts;
  if (metadata.size() > 0) {
    const CharacterVector keys = metadata.names();
    for (R_xlen_t i = 0; i < metadata.size(); ++i)
      texts.push_back({Rf_translateCharUTF8(keys[i]), Rf_translateCharUTF8(metadata[i])});
  }
  XPtr<ParquetWriter> parquet(writer);
  parquet->finish(texts);
  parquet.release();
}
