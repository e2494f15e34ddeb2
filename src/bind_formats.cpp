#include "bind.h"
#include "kernel/base/error.h"
#include "kernel/base/locked_file.h"
#include "kernel/base/parallel.h"
#include "kernel/base/portable.h"
#include "kernel/formats/blobs.h"
#include "kernel/formats/dbase.h"
#include "kernel/formats/delimited.h"
#include "kernel/formats/geojson.h"
#include "kernel/formats/geopackage.h"
#include "kernel/formats/kml.h"
#include "kernel/formats/parquet_footer.h"
#include "kernel/formats/shapefile.h"
#include "kernel/formats/zip.h"
#include "kernel/io/deflate.h"
#include "kernel/io/file_writer.h"
#include "kernel/shapes/wkb.h"
#include "store_seal.h"

using namespace Rcpp;
using namespace civic;

namespace {

std::unique_ptr<SourceFile> optional_source(const Nullable<RObject>& source) {
  return source.isNull() ? nullptr : std::make_unique<SourceFile>(SEXP(source));
}

const InputFile* file_of(const std::unique_ptr<SourceFile>& source) { return source ? &source->file() : nullptr; }

struct OpenShapefile {
  SourceFile shp;
  std::unique_ptr<SourceFile> shx;
  ShapefileReader reader;
  OpenShapefile(SEXP shp_source, const Nullable<RObject>& shx_source, bool skip)
      : shp(shp_source), shx(optional_source(shx_source)), reader(shp.file(), file_of(shx), skip) {}
};

struct OpenTable {
  SourceFile dbf;
  std::unique_ptr<SourceFile> memo;
  DbaseReader reader;
  OpenTable(SEXP dbf_source, const Nullable<RObject>& memo_source, bool skip)
      : dbf(dbf_source), memo(optional_source(memo_source)), reader(dbf.file(), file_of(memo), skip) {}
};

// R's row numbers, from 1, as the core's, from 0; NULL for all of n.
std::vector<int> chosen(const Nullable<IntegerVector>& rows, std::size_t n) {
  std::vector<int> out;
  if (rows.isNull()) {
    out.resize(n);
    std::iota(out.begin(), out.end(), 0);
    return out;
  }
  for (const int row : IntegerVector(rows)) {
    if (row < 1 || static_cast<std::size_t>(row) > n) throw ArgumentError("a row lies outside the file");
    out.push_back(row - 1);
  }
  return out;
}

IntegerVector row_numbers(const std::vector<int>& rows) {
  IntegerVector out(rows.size());
  std::transform(rows.begin(), rows.end(), out.begin(), [](int row) { return row + 1; });
  return out;
}

NumericVector r_box(const Box& box) { return NumericVector::create(box.xmin, box.ymin, box.xmax, box.ymax); }

std::vector<ByteSpan> spans_of(const List& blobs) {
  std::vector<ByteSpan> out(blobs.size());
  for (R_xlen_t i = 0; i < blobs.size(); ++i) {
    const SEXP blob = VECTOR_ELT(blobs, i);
    if (TYPEOF(blob) == RAWSXP)
      out[i] = {RAW(blob), static_cast<std::size_t>(XLENGTH(blob))};
    else if (!Rf_isNull(blob))
      throw FormatError("row " + std::to_string(i + 1) + " of the shape column is no blob");
  }
  return out;
}

}  // namespace

// --- shapefile -------------------------------------------------------------------------------------------------

// [[Rcpp::export]]
SEXP core_open_shp(RObject shp, Nullable<RObject> shx, bool skip_damaged) {
  return XPtr<OpenShapefile>(new OpenShapefile(shp, shx, skip_damaged));
}

// [[Rcpp::export]]
List core_shp_header(SEXP open) {
  const ShapefileReader& reader = XPtr<OpenShapefile>(open)->reader;
  const int type = reader.header().type;
  return List::create(_["kind"] = type == 0 ? "" : kind_name(kind_of_shapefile_type(type)),
                      _["records"] = static_cast<double>(reader.records()), _["extent"] = r_box(reader.header().extent),
                      _["z"] = type / 10 == 1, _["m"] = type / 10 == 2);
}

// [[Rcpp::export]]
IntegerVector core_shp_within(SEXP open, NumericVector window) {
  const Box box{window[0], window[1], window[2], window[3]};
  return row_numbers(XPtr<OpenShapefile>(open)->reader.records_within(box));
}

// [[Rcpp::export]]
List core_read_shp(SEXP open, Nullable<IntegerVector> rows) {
  ShapefileReader& reader = XPtr<OpenShapefile>(open)->reader;
  reader.choose(chosen(rows, reader.records()));
  RStore store(reader.counts());
  const std::size_t parts = reader.decode(store.target);
  if (parts < reader.counts().parts) {
    const IntegerVector part_types = store.list["part_types"], part_rings = store.list["part_rings"];
    store.list["part_types"] = IntegerVector(part_types.begin(), part_types.begin() + parts);
    store.list["part_rings"] = IntegerVector(part_rings.begin(), part_rings.begin() + parts + 1);
  }
  if (!reader.extent().empty()) put_extent_under_seal(store.list, r_box(reader.extent()));
  return List::create(_["store"] = store.list, _["handles"] = wrap(reader.handles(NA_INTEGER)),
                      _["notices"] = r_notices(reader.notices()));
}

// [[Rcpp::export]]
SEXP core_open_dbase(RObject dbf, Nullable<RObject> memo, bool skip_damaged) {
  return XPtr<OpenTable>(new OpenTable(dbf, memo, skip_damaged));
}

// [[Rcpp::export]]
List core_dbase_header(SEXP open) {
  const DbaseReader& reader = XPtr<OpenTable>(open)->reader;
  CharacterVector names, types;
  IntegerVector widths, decimals;
  for (const DbaseReader::Field& field : reader.fields()) {
    names.push_back(field.name);
    types.push_back(std::string(1, field.type));
    widths.push_back(field.width);
    decimals.push_back(field.decimals);
  }
  return List::create(_["names"] = names, _["types"] = types, _["widths"] = widths, _["decimals"] = decimals,
                      _["records"] = static_cast<double>(reader.records()),
                      _["encoding"] = encoding_of_language_driver(reader.language_driver()));
}

// Those of some records that are not marked as deleted.
// [[Rcpp::export]]
IntegerVector core_dbase_live(SEXP open, Nullable<IntegerVector> rows) {
  const DbaseReader& reader = XPtr<OpenTable>(open)->reader;
  return row_numbers(reader.live(chosen(rows, reader.records())));
}

// Some fields of some records; text keeps the table's encoding, and `beyond_ascii` tells which columns need to leave
// it.
// [[Rcpp::export]]
List core_read_dbase(SEXP open, IntegerVector fields, Nullable<IntegerVector> rows) {
  DbaseReader& reader = XPtr<OpenTable>(open)->reader;
  const std::vector<int> all = chosen(Nullable<IntegerVector>(fields), reader.fields().size());
  const std::vector<int> records = chosen(rows, reader.records());
  std::vector<int> texts, others;
  for (const int field : all) (reader.holds_text(field) ? texts : others).push_back(field);

  // Strings are R's, and made on this thread alone; the other columns are decoded meanwhile.
  std::vector<Column> text_columns = reader.read(texts, records);
  auto rest = start_beside(records.size(), [&] { return reader.read(others, records); });
  List out(all.size());
  LogicalVector beyond_ascii(all.size());
  unwindProtect([&]() -> SEXP {
    for (std::size_t i = 0; i < all.size(); ++i)
      if (reader.holds_text(all[i])) out[i] = CharacterVector(records.size());
    for (std::size_t i = 0, text = 0; i < all.size(); ++i)
      if (reader.holds_text(all[i])) beyond_ascii[i] = fill_strings(text_columns[text++].texts, out[i]);
    return R_NilValue;
  });
  std::vector<Column> other_columns = rest.get();
  for (std::size_t i = 0, other = 0; i < all.size(); ++i)
    if (!reader.holds_text(all[i])) out[i] = r_column(other_columns[other++]);
  return List::create(_["columns"] = out, _["beyond_ascii"] = beyond_ascii, _["notices"] = r_notices(reader.notices()));
}

// [[Rcpp::export]]
std::string core_encoding_of_cpg(std::string text) { return encoding_of_cpg(text); }

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

// --- GeoJSON ---------------------------------------------------------------------------------------------------

// [[Rcpp::export]]
List core_geojson_table(RObject source, bool skip_damaged) {
  const XPtr<SourceFile> file(new SourceFile(source));
  GeojsonTable table = read_geojson_table(file->padded(), {}, skip_damaged);
  NumericVector from(table.geometries.size()), size(table.geometries.size());
  for (std::size_t i = 0; i < table.geometries.size(); ++i) {
    from[i] = static_cast<double>(table.geometries[i].from);
    size[i] = static_cast<double>(table.geometries[i].size);
  }
  return List::create(_["file"] = file, _["columns"] = r_columns(table.columns), _["from"] = from, _["size"] = size,
                      _["rows"] = r_vector(table.rows), _["features"] = static_cast<double>(table.features),
                      _["crs_name"] = table.crs_name, _["notices"] = r_notices(table.notices));
}

// [[Rcpp::export]]
List core_geojson_shapes(SEXP file, NumericVector from, NumericVector size, IntegerVector features,
                         Nullable<NumericVector> within, bool skip_damaged) {
  std::vector<GeometryPlace> places(static_cast<std::size_t>(from.size()));
  for (std::size_t i = 0; i < places.size(); ++i)
    places[i] = {static_cast<std::size_t>(from[i]), static_cast<std::size_t>(size[i])};
  XPtr<SourceFile> open(file);
  GeojsonShapes shapes =
      read_geojson_shapes(open->padded(), places, std::span<const int>(features.begin(), places.size()),
                          optional_box(within), NA_INTEGER, skip_damaged);
  open.release();  // its bytes, which the garbage collector does not count
  std::vector<StoreView> views;
  for (const StoreBuffer& store : shapes.stores) views.push_back(store.view());
  RStore out(count_all(views));
  concatenate(views, out.target);
  for (int& row : shapes.kept) ++row;
  return List::create(_["store"] = out.list, _["handles"] = r_vector(shapes.handles), _["kept"] = r_vector(shapes.kept),
                      _["notices"] = r_notices(shapes.notices));
}

// [[Rcpp::export]]
List core_encode_geojson(IntegerVector handles, List store, List columns, int decimals, std::string crs_name,
                         std::string form) {
  GeojsonOptions options{decimals, crs_name};
  if (form == "lines") options.form = GeojsonForm::lines;
  if (form == "sequence") options.form = GeojsonForm::sequence;
  Notices notices;
  const std::string text = encode_geojson(shape_rows(handles, store), kernel_columns(columns), options, notices);
  return List::create(_["bytes"] = RawVector(text.begin(), text.end()), _["notices"] = r_notices(notices));
}

// --- blobs of databases ----------------------------------------------------------------------------------------

// [[Rcpp::export]]
SEXP core_open_blobs(std::string form, Nullable<NumericVector> within, bool skip_damaged) {
  const BlobForm kind = form == "geopackage" ? BlobForm::geopackage : BlobForm::wkb;
  return XPtr<BlobDecoder>(new BlobDecoder(kind, NA_INTEGER, optional_box(within), skip_damaged));
}

// Decodes a batch and tells which of its rows are kept.
// [[Rcpp::export]]
LogicalVector core_add_blobs(SEXP decoder, List blobs) {
  const std::vector<char> kept = XPtr<BlobDecoder>(decoder)->add(spans_of(blobs));
  return LogicalVector(kept.begin(), kept.end());
}

// [[Rcpp::export]]
List core_take_blobs(SEXP decoder) {
  const XPtr<BlobDecoder> blobs(decoder);
  const List out = r_blobs(*blobs);
  XPtr<BlobDecoder>(decoder).release();
  return out;
}

// [[Rcpp::export]]
List core_geopackage_blobs(IntegerVector handles, List store, int srs_id) {
  const ShapeRows rows = shape_rows(handles, store);
  List out(rows.size());
  std::vector<std::uint8_t> bytes;
  for (int i = 0; i < rows.size(); ++i) {
    if (rows[i] < 0) continue;
    bytes.clear();
    write_geopackage_shape(rows.store, rows[i], srs_id, bytes);
    out[i] = r_raw(bytes);
  }
  return out;
}

// Shapes of a file of well-known binary, one after the other.
// [[Rcpp::export]]
List core_read_wkb_file(RObject source) {
  SourceFile file(source);
  ByteSpan rest = file.padded();
  ShapeBuilder builder;
  std::vector<int> handles;
  const std::size_t size = rest.size();
  while (!rest.empty()) {
    try {
      rest = rest.subspan(read_wkb_prefix(rest, builder));
    } catch (const FormatError& problem) {
      throw FormatError("shape " + std::to_string(handles.size() + 1) + ", which starts at byte " +
                        std::to_string(size - rest.size()) + ": " + problem.what());
    }
    handles.push_back(builder.size());
  }
  StoreBuffer store = builder.take();
  return List::create(_["store"] = r_store(store), _["handles"] = r_vector(handles));
}

// --- KML -------------------------------------------------------------------------------------------------------

// One geometry element a row, NA for none; those that cannot be read become missing shapes and are noted.
// [[Rcpp::export]]
List core_read_kml(CharacterVector elements) {
  ShapeBuilder builder;
  IntegerVector handles(elements.size(), NA_INTEGER);
  Notices notices;
  for (R_xlen_t i = 0; i < elements.size(); ++i) {
    if (CharacterVector::is_na(elements[i])) continue;
    const ShapeBuilder::Mark mark = builder.mark();
    try {
      read_kml_geometry(CHAR(elements[i]), builder);
      handles[i] = builder.size();
    } catch (const FormatError& problem) {
      builder.rewind(mark);
      notices.add("shapes cannot be read and are missing",
                  "placemark " + std::to_string(i + 1) + ": " + problem.what());
    }
  }
  StoreBuffer store = builder.take();
  orient_rings(store.target(), {0, static_cast<int>(store.types.size())});
  return List::create(_["store"] = r_store(store), _["handles"] = handles, _["notices"] = r_notices(notices));
}

// [[Rcpp::export]]
List core_encode_kml(IntegerVector handles, List store, List columns, std::string layer, int decimals) {
  Notices notices;
  const std::string text = encode_kml(shape_rows(handles, store), kernel_columns(columns), layer, decimals, notices);
  return List::create(_["bytes"] = RawVector(text.begin(), text.end()), _["notices"] = r_notices(notices));
}

// --- tables in text --------------------------------------------------------------------------------------------

// [[Rcpp::export]]
List core_read_delimited(RawVector text, std::string separator, bool skip_damaged, bool numbers) {
  DelimitedTable table =
      read_delimited({RAW(text), static_cast<std::size_t>(text.size())}, separator.at(0), skip_damaged);
  parallel_for(table.columns.size(), 1, [&](std::size_t begin, std::size_t end) {
    for (std::size_t i = begin; numbers && i < end; ++i) settle_numbers(table.columns[i]);
  });
  const List columns = r_columns(table.columns);
  return List::create(_["columns"] = columns, _["notices"] = r_notices(table.notices));
}

// A column of text as numbers, where it holds nothing else.
// [[Rcpp::export]]
SEXP core_settle_numbers(CharacterVector text) {
  Column column = std::move(kernel_columns(List::create(_["text"] = text)).front());
  settle_numbers(column);
  return column.type == ColumnType::text ? SEXP(text) : r_column(column);
}

// How many bytes the whole records take that start a text, or the first of them.
// [[Rcpp::export]]
double core_whole_records(RawVector text, bool quoted, bool first) {
  return static_cast<double>(whole_records({RAW(text), static_cast<std::size_t>(text.size())}, quoted, first));
}

// --- files -----------------------------------------------------------------------------------------------------

// Entries of a zip archive.
// [[Rcpp::export]]
List core_zip_entries(std::string path) {
  const InputFile file(path);
  const ZipReader archive(file);
  const std::size_t count = archive.entries().size();
  CharacterVector names(static_cast<R_xlen_t>(count));
  NumericVector sizes(static_cast<R_xlen_t>(count));
  for (std::size_t i = 0; i < count; ++i) {
    const auto& entry = archive.entries()[i];
    names[static_cast<R_xlen_t>(i)] = String(entry.name, CE_UTF8);
    sizes[static_cast<R_xlen_t>(i)] = static_cast<double>(entry.size);
  }
  return List::create(_["name"] = names, _["size"] = sizes);
}

// A name of the file as it is now, whoever replaces it, until it is released; NULL where the system has none.
// [[Rcpp::export]]
RObject core_hold_file(std::string path) {
  auto file = std::make_unique<NativeFile>(path);
  const std::string name = file->name_while_open();
  if (name.empty()) return R_NilValue;
  CharacterVector held = CharacterVector::create(String(name, CE_UTF8));
  held.attr("file") = XPtr<NativeFile>(file.release());
  return held;
}

// [[Rcpp::export]]
void core_release_file(RObject held) {
  const RObject pointer = held.attr("file");
  XPtr<NativeFile>(SEXP(pointer)).release();
}

// [[Rcpp::export]]
void core_write_standard_output(RawVector bytes) {
  write_standard_output(RAW(bytes), static_cast<std::size_t>(bytes.size()));
}

// A file that one process at a time holds: `held`, or the `holder` who has it.
// [[Rcpp::export]]
List core_lock_file(std::string path) {
  auto file = std::make_unique<LockedFile>(path, true, this_process());
  if (file->state() != LockedFile::State::held) return List::create(_["holder"] = LockedFile::peek(path));
  file->write(this_process());
  return List::create(_["held"] = XPtr<LockedFile>(file.release()));
}

// Lets it go, and removes it.
// [[Rcpp::export]]
void core_unlock_file(SEXP held) {
  XPtr<LockedFile> file(held);
  file->remove();
  file.release();
}

// The first bytes of a source, or all of them where `most` is negative.
// [[Rcpp::export]]
RawVector core_read_bytes(RObject source, double most) {
  const SourceFile file(source);
  const std::size_t size = file.file().size();
  RawVector out(most < 0 ? size : std::min(size, static_cast<std::size_t>(most)));
  file.file().read(0, out.size(), RAW(out));
  return out;
}

// [[Rcpp::export]]
RawVector core_group_parquet_columns(RawVector metadata, std::string group, CharacterVector members) {
  const ByteSpan bytes{RAW(metadata), static_cast<std::size_t>(metadata.size())};
  return r_raw(group_parquet_columns(bytes, group, as<std::vector<std::string>>(members)));
}

// [[Rcpp::export]]
List core_flatten_parquet(RawVector metadata, Nullable<NumericVector> window, std::string box_group,
                          CharacterVector box_members) {
  const ByteSpan bytes{RAW(metadata), static_cast<std::size_t>(metadata.size())};
  const FlatParquet flat =
      flatten_parquet(bytes, optional_box(window), box_group, as<std::vector<std::string>>(box_members));
  return List::create(_["metadata"] = r_raw(flat.metadata), _["dropped"] = wrap(flat.dropped),
                      _["row_groups"] = static_cast<double>(flat.row_groups));
}

// A row for each group of rows: xmin, ymin, xmax, ymax, NA where its statistics do not tell.
// [[Rcpp::export]]
NumericMatrix core_parquet_boxes(RawVector metadata, std::string box_group, CharacterVector box_members) {
  const ByteSpan bytes{RAW(metadata), static_cast<std::size_t>(metadata.size())};
  const auto boxes = parquet_boxes(bytes, box_group, as<std::vector<std::string>>(box_members));
  NumericMatrix out(static_cast<int>(boxes.size()), 4);
  std::fill(out.begin(), out.end(), NA_REAL);
  for (std::size_t i = 0; i < boxes.size(); ++i)
    if (boxes[i]) {
      const double edges[4] = {boxes[i]->xmin, boxes[i]->ymin, boxes[i]->xmax, boxes[i]->ymax};
      for (int edge = 0; edge < 4; ++edge) out(static_cast<int>(i), edge) = edges[edge];
    }
  return out;
}

// [[Rcpp::export]]
RawVector core_gzip(RawVector content) { return r_raw(gzip({RAW(content), static_cast<std::size_t>(content.size())})); }

// [[Rcpp::export]]
RawVector core_encode_zip(CharacterVector names, List contents) {
  std::vector<ZipItem> items;
  for (R_xlen_t i = 0; i < contents.size(); ++i) {
    const SEXP content = contents[i];
    items.push_back({std::string(names[i]), {RAW(content), static_cast<std::size_t>(XLENGTH(content))}});
  }
  return r_raw(encode_zip(items));
}

// Writes a file, or files that belong together, and removes others of them, all or none.
// [[Rcpp::export]]
void core_write_files(CharacterVector paths, List contents, CharacterVector removed, double wait) {
  std::vector<std::unique_ptr<FileWriter>> writers;
  for (R_xlen_t i = 0; i < contents.size(); ++i) {
    const SEXP content = contents[i];
    writers.push_back(std::make_unique<FileWriter>(std::string(paths[i])));
    writers.back()->write(RAW(content), static_cast<std::size_t>(XLENGTH(content)));
    writers.back()->close();
  }
  publish_together(writers, as<std::vector<std::string>>(removed), wait);
}

// Waits until files that lie in one folder are on the disk.
// [[Rcpp::export]]
void core_flush_files(CharacterVector paths) { flush_files(as<std::vector<std::string>>(paths)); }

// [[Rcpp::export]]
void core_publish_file(std::string written, std::string target) { publish_file(written, target); }

// Where nothing has the target's name; whether nothing had.
// [[Rcpp::export]]
bool core_publish_new_file(std::string written, std::string target) { return publish_new_file(written, target); }

// [[Rcpp::export]]
bool core_is_special(std::string path) { return is_special(path); }

// [[Rcpp::export]]
void core_settle_files(std::string path, double wait) { settle_files(path, wait); }

// [[Rcpp::export]]
int core_process_holding(std::string path) { return process_holding(path); }

// [[Rcpp::export]]
bool core_being_changed(std::string path) { return are_being_changed(path); }
