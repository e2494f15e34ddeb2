#include "bind.h"
#include "kernel/error.h"
#include "kernel/formats/dbase.h"
#include "kernel/formats/geojson.h"
#include "kernel/formats/shapefile.h"
#include "kernel/formats/zip.h"

using namespace Rcpp;
using namespace civic;

// A dBASE table: its columns in the table's encoding, which records are deleted, its language driver's encoding.
// [[Rcpp::export]]
List core_read_dbase(SEXP source) {
  const ByteSource file(source);
  const DbaseReader reader(file.bytes());
  const auto deleted = reader.deleted();
  Notices notices;
  List columns(reader.fields().size());
  CharacterVector names(reader.fields().size());
  for (std::size_t i = 0; i < reader.fields().size(); ++i) {
    Column column = reader.column(i, deleted, notices);
    columns[i] = r_column(column);
    names[i] = reader.fields()[i].name;
  }
  columns.names() = names;
  return List::create(_["columns"] = columns, _["records"] = static_cast<double>(reader.records()),
                      _["deleted"] = LogicalVector(deleted.begin(), deleted.end()),
                      _["encoding"] = encoding_of_language_driver(reader.language_driver()),
                      _["notices"] = r_notices(notices));
}

// Shapes of a .shp file; records marked in `deleted` are left out.
// [[Rcpp::export]]
List core_read_shp(SEXP source, LogicalVector deleted) {
  const ByteSource file(source);
  const ShapefileReader reader(file.bytes(), std::vector<char>(deleted.begin(), deleted.end()));
  RStore store(reader.counts());
  Notices notices;
  const std::size_t parts = reader.decode(store.target, notices);
  if (parts < reader.counts().parts) {
    const IntegerVector part_types = store.list["part_types"], part_rings = store.list["part_rings"];
    store.list["part_types"] = IntegerVector(part_types.begin(), part_types.begin() + parts);
    store.list["part_rings"] = IntegerVector(part_rings.begin(), part_rings.begin() + parts + 1);
  }
  return List::create(_["store"] = store.list, _["handles"] = wrap(reader.handles(NA_INTEGER)),
                      _["notices"] = r_notices(notices));
}

// [[Rcpp::export]]
std::string core_encoding_of_cpg(std::string text) { return encoding_of_cpg(text); }

// [[Rcpp::export]]
List core_read_geojson(SEXP source) {
  ByteSource file(source);
  GeojsonLayer layer = decode_geojson(file.padded(), NA_INTEGER);
  List columns(layer.columns.size());
  CharacterVector names(layer.columns.size());
  for (std::size_t i = 0; i < layer.columns.size(); ++i) {
    names[i] = String(layer.columns[i].name, CE_UTF8);
    columns[i] = r_column(layer.columns[i]);
    layer.columns[i] = Column();
  }
  columns.names() = names;
  return List::create(_["store"] = r_store(layer.store), _["handles"] = r_vector(layer.handles), _["columns"] = columns,
                      _["crs_name"] = layer.crs_name, _["notices"] = r_notices(layer.notices));
}

// [[Rcpp::export]]
List core_encode_shapefile(IntegerVector handles, List store) {
  const ShapefileBytes bytes = encode_shapefile(shape_rows(handles, store));
  return List::create(_["shp"] = r_raw(bytes.shp), _["shx"] = r_raw(bytes.shx),
                      _["empty"] = static_cast<double>(bytes.empty));
}

// [[Rcpp::export]]
List core_encode_dbase(List columns, int rows) {
  const DbaseBytes bytes = encode_dbase(kernel_columns(columns), rows);
  return List::create(_["dbf"] = r_raw(bytes.dbf), _["notices"] = r_notices(bytes.notices));
}

// [[Rcpp::export]]
List core_encode_geojson(IntegerVector handles, List store, List columns, int decimals, std::string crs_name) {
  Notices notices;
  const std::string text =
      encode_geojson(shape_rows(handles, store), kernel_columns(columns), {decimals, crs_name}, notices);
  return List::create(_["text"] = RawVector(text.begin(), text.end()), _["notices"] = r_notices(notices));
}

// Entries of a zip archive.
// [[Rcpp::export]]
List core_zip_entries(std::string path) {
  const FileContent file = FileContent::read(path);
  const ZipReader archive(file.bytes());
  CharacterVector names;
  NumericVector sizes;
  for (const auto& entry : archive.entries()) {
    names.push_back(entry.name);
    sizes.push_back(static_cast<double>(entry.size));
  }
  return List::create(_["name"] = names, _["size"] = sizes);
}

// [[Rcpp::export]]
RawVector core_zip_extract(std::string path, std::string name) {
  const FileContent file = FileContent::read(path);
  const ZipReader archive(file.bytes());
  for (const auto& entry : archive.entries()) {
    if (entry.name != name) continue;
    const FileContent content = archive.extract(entry);
    return RawVector(content.bytes().begin(), content.bytes().end());
  }
  throw FormatError("the zip archive has no entry " + name);
}

// [[Rcpp::export]]
RawVector core_encode_zip(CharacterVector names, List contents) {
  std::vector<ZipItem> items;
  for (R_xlen_t i = 0; i < contents.size(); ++i) {
    const SEXP content = contents[i];
    items.push_back({std::string(names[i]), {RAW(content), static_cast<std::size_t>(XLENGTH(content))}});
  }
  return r_raw(encode_zip(items));
}

// Writes all files beside their targets first, then renames them all.
// [[Rcpp::export]]
void core_write_files(CharacterVector paths, List contents) {
  std::vector<std::unique_ptr<FileWriter>> writers;
  for (R_xlen_t i = 0; i < contents.size(); ++i) {
    const SEXP content = contents[i];
    writers.push_back(std::make_unique<FileWriter>(std::string(paths[i])));
    writers.back()->write(RAW(content), static_cast<std::size_t>(XLENGTH(content)));
    writers.back()->close();
  }
  for (auto& writer : writers) writer->publish();
}
