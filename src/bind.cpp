#include "bind.h"

#include <algorithm>
#include <bit>
#include <chrono>
#include <cstring>
#include <random>

#include "kernel/base/error.h"
#include "kernel/base/parallel.h"
#include "kernel/base/portable.h"
#include "kernel/formats/zip.h"
#include "kernel/index/kept_index.h"
#include "kernel/io/deflate.h"
#include "kernel/io/unpack_limit.h"
#include "plain_data.h"
#include "store_seal.h"

using namespace Rcpp;
using namespace civic;

namespace {

[[noreturn]] void damaged_column(const char* name) {
  throw FormatError(std::string("the shape store is damaged: its column ") + name + " is missing or of another type");
}

std::span<const int> ints(const List& store, const char* name) {
  const SEXP column = store_column(store, name);
  if (TYPEOF(column) != INTSXP) damaged_column(name);
  return {INTEGER(column), static_cast<std::size_t>(XLENGTH(column))};
}

std::span<const double> doubles(const List& store, const char* name) {
  const SEXP column = store_column(store, name);
  if (Rf_isNull(column)) return {};
  if (TYPEOF(column) != REALSXP) damaged_column(name);
  return {REAL(column), static_cast<std::size_t>(XLENGTH(column))};
}

List store_list(SEXP types, SEXP part_types, SEXP shape_parts, SEXP part_rings, SEXP ring_vertices, SEXP x, SEXP y,
                SEXP z, SEXP m, SEXP boxes) {
  List store = List::create(_["types"] = types, _["part_types"] = part_types, _["shape_parts"] = shape_parts,
                            _["part_rings"] = part_rings, _["ring_vertices"] = ring_vertices, _["x"] = x, _["y"] = y,
                            _["z"] = z, _["m"] = m, _["boxes"] = boxes);
  seal(store);
  return store;
}

SEXP or_null(std::vector<double>& values) { return values.empty() ? R_NilValue : SEXP(r_vector(values)); }

NumericVector r_boxes(std::vector<Box>& boxes) {
  NumericVector out(4 * boxes.size());
  std::memcpy(out.begin(), boxes.data(), boxes.size() * sizeof(Box));
  std::vector<Box>().swap(boxes);
  return out;
}

void check_interrupt(void*) { R_CheckUserInterrupt(); }

}  // namespace

StoreView store_view(const List& store) {
  StoreView view;
  view.types = ints(store, "types");
  view.part_types = ints(store, "part_types");
  view.shape_parts = ints(store, "shape_parts");
  view.part_rings = ints(store, "part_rings");
  view.ring_vertices = ints(store, "ring_vertices");
  view.x = doubles(store, "x");
  view.y = doubles(store, "y");
  view.z = doubles(store, "z");
  view.m = doubles(store, "m");
  const auto boxes = doubles(store, "boxes");
  view.boxes = {reinterpret_cast<const Box*>(boxes.data()), boxes.size() / 4};
  if (!is_sealed(store)) {
    check_store(view);
    List checked(store);  // the same list, not a copy
    seal(checked);
  }
  return view;
}

ShapeRows shape_rows(const IntegerVector& handles, const List& store) {
  ShapeRows rows{store_view(store), {handles.begin(), static_cast<std::size_t>(handles.size())}};
  for (const int handle : rows.handles)
    if (handle > rows.store.size()) throw FormatError("the shape store is damaged: a handle points beyond it");
  return rows;
}

List r_store(StoreBuffer& b) {
  const IntegerVector types = r_vector(b.types), part_types = r_vector(b.part_types),
                      shape_parts = r_vector(b.shape_parts), part_rings = r_vector(b.part_rings),
                      ring_vertices = r_vector(b.ring_vertices);
  const NumericVector x = r_vector(b.x), y = r_vector(b.y), boxes = r_boxes(b.boxes);
  const RObject z = or_null(b.z), m = or_null(b.m);
  return store_list(types, part_types, shape_parts, part_rings, ring_vertices, x, y, z, m, boxes);
}

RStore::RStore(const StoreCounts& c) {
  IntegerVector types(no_init(c.shapes)), part_types(no_init(c.parts)), shape_parts(no_init(c.shapes + 1)),
      part_rings(no_init(c.parts + 1)), ring_vertices(no_init(c.rings + 1));
  NumericVector x(no_init(c.vertices)), y(no_init(c.vertices)), boxes(no_init(4 * c.shapes));
  NumericVector z(no_init(c.z ? c.vertices : 0)), m(no_init(c.m ? c.vertices : 0));
  target = {span_of(types),
            span_of(part_types),
            span_of(shape_parts),
            span_of(part_rings),
            span_of(ring_vertices),
            span_of(x),
            span_of(y),
            span_of(z),
            span_of(m),
            {reinterpret_cast<Box*>(boxes.begin()), c.shapes}};
  list = store_list(types, part_types, shape_parts, part_rings, ring_vertices, x, y, c.z ? SEXP(z) : R_NilValue,
                    c.m ? SEXP(m) : R_NilValue, boxes);
}

SourceFile::SourceFile(SEXP source) {
  if (TYPEOF(source) == RAWSXP) {
    kept_ = source;
    file_ = std::make_unique<InputFile>(ByteSpan{RAW(source), static_cast<std::size_t>(XLENGTH(source))});
  } else if (TYPEOF(source) == VECSXP) {
    const List place(source);
    const InputFile archive(as<std::string>(place["archive"]));
    const ZipReader zip(archive);
    content_ = zip.extract(zip.entry(as<std::string>(place["entry"])));
    file_ = std::make_unique<InputFile>(content_.bytes());
  } else {
    file_ = std::make_unique<InputFile>(as<std::string>(source));
  }
  unpack();
}

void SourceFile::unpack() {
  if (file_->size() < 2) return;
  std::uint8_t front[2];
  file_->read(0, 2, front);
  if (!is_gzip(front)) return;
  content_ = gunzip(padded());
  file_ = std::make_unique<InputFile>(content_.bytes());
}

ByteSpan SourceFile::padded() {
  if (content_.bytes().empty()) {
    content_ = file_->read(0, file_->size());
    file_ = std::make_unique<InputFile>(content_.bytes());
  }
  return content_.bytes();
}

std::optional<Box> optional_box(const Nullable<NumericVector>& edges) {
  if (edges.isNull()) return std::nullopt;
  const NumericVector e(edges);
  return Box{e[0], e[1], e[2], e[3]};
}

RawVector r_raw(const std::vector<std::uint8_t>& bytes) { return RawVector(bytes.begin(), bytes.end()); }

DataFrame r_notices(const Notices& notices) {
  CharacterVector what, first;
  NumericVector count;
  for (const Notice& notice : notices.all()) {
    what.push_back(String(notice.what, CE_UTF8));
    first.push_back(String(notice.first, CE_UTF8));
    count.push_back(static_cast<double>(notice.count));
  }
  return DataFrame::create(_["what"] = what, _["count"] = count, _["first"] = first, _["stringsAsFactors"] = false);
}

namespace {

// Makes R's strings. Short ones met lately are kept at hand, as R's own table of strings is far slower to ask; a column
// whose values hardly ever repeat is not kept.
class StringMaker {
 public:
  explicit StringMaker(std::size_t strings)
      : known_(std::bit_ceil(std::clamp<std::size_t>(strings / 4, 256, 262144))) {}

  SEXP make(std::string_view text) {
    if (!keeps_ || text.size() > sizeof(Known::text)) return fresh(text);
    Known& known = known_[std::hash<std::string_view>()(text) & (known_.size() - 1)];
    if (++asked_ == 65536) keeps_ = found_ * 8 > asked_;
    if (known.string != nullptr && known.size == text.size() &&
        std::memcmp(known.text, text.data(), text.size()) == 0) {
      ++found_;
      return known.string;
    }
    known.string = fresh(text);
    known.size = static_cast<std::uint8_t>(text.size());
    std::memcpy(known.text, text.data(), text.size());
    return known.string;
  }
  bool beyond_ascii() const { return beyond_ascii_; }

 private:
  // R strings hold no NUL; JSON may.
  SEXP fresh(std::string_view text) {
    if (std::memchr(text.data(), 0, text.size())) {
      spare_ = text;
      std::erase(spare_, '\0');
      text = spare_;
    }
    const bool ascii = std::all_of(text.begin(), text.end(), [](char c) { return static_cast<signed char>(c) >= 0; });
    beyond_ascii_ |= !ascii;
    return Rf_mkCharLenCE(text.data(), static_cast<int>(text.size()), ascii ? CE_NATIVE : CE_UTF8);
  }

  struct Known {
    SEXP string = nullptr;
    char text[15];
    std::uint8_t size = 0;
  };
  std::vector<Known> known_;
  std::size_t asked_ = 0, found_ = 0;
  bool keeps_ = true;
  std::string spare_;
  bool beyond_ascii_ = false;
};

}  // namespace

bool fill_strings(const TextColumn& texts, SEXP column) {
  const std::size_t n = texts.size();
  StringMaker strings(n);
  for (std::size_t i = 0; i < n; ++i) SET_STRING_ELT(column, i, texts.missing(i) ? NA_STRING : strings.make(texts[i]));
  return strings.beyond_ascii();
}

SEXP r_column(Column& column) {
  switch (column.type) {
    case ColumnType::logical: {
      LogicalVector out(column.integers.begin(), column.integers.end());
      return out;
    }
    case ColumnType::integer:
      return r_vector(column.integers);
    case ColumnType::real:
    case ColumnType::date:
    case ColumnType::datetime: {
      NumericVector out = r_vector(column.reals);
      for (double& v : out)
        if (std::isnan(v)) v = NA_REAL;
      if (column.type == ColumnType::date) out.attr("class") = "Date";
      if (column.type == ColumnType::datetime) {
        out.attr("class") = CharacterVector::create("POSIXct", "POSIXt");
        out.attr("tzone") = "UTC";
      }
      return out;
    }
    default: {
      CharacterVector out(column.texts.size());
      fill_strings(column.texts, out);
      column.texts = {};
      return out;
    }
  }
}

List r_columns(std::vector<Column>& columns) {
  List out(columns.size());
  CharacterVector names(columns.size());
  for (std::size_t i = 0; i < columns.size(); ++i) {
    names[i] = String(columns[i].name, CE_UTF8);
    out[i] = r_column(columns[i]);
  }
  out.names() = names;
  return out;
}

List r_blobs(const BlobDecoder& decoder) {
  const std::vector<StoreView> stores = decoder.stores();
  RStore store(count_all(stores));
  concatenate(stores, store.target);
  return List::create(_["store"] = store.list, _["handles"] = wrap(decoder.handles()),
                      _["notices"] = r_notices(decoder.notices()));
}

namespace {

Column kernel_column(SEXP values) {
  Column column;
  const R_xlen_t n = XLENGTH(values);
  switch (TYPEOF(values)) {
    case LGLSXP:
      column.type = ColumnType::logical;
      column.integers.assign(LOGICAL(values), LOGICAL(values) + n);
      break;
    case INTSXP:
      column.type = ColumnType::integer;
      column.integers.assign(INTEGER(values), INTEGER(values) + n);
      break;
    case REALSXP:
      column.type = Rf_inherits(values, "Date")      ? ColumnType::date
                    : Rf_inherits(values, "POSIXct") ? ColumnType::datetime
                                                     : ColumnType::real;
      column.reals.assign(REAL(values), REAL(values) + n);
      break;
    case STRSXP:
      column.type = ColumnType::text;
      for (R_xlen_t i = 0; i < n; ++i) {
        const SEXP text = STRING_ELT(values, i);
        if (text == NA_STRING)
          column.texts.push_missing();
        else
          column.texts.push(Rf_translateCharUTF8(text));
      }
      break;
    default:
      stop("a column of type %s cannot be written", Rf_type2char(TYPEOF(values)));
  }
  return column;
}

}  // namespace

std::vector<Column> kernel_columns(const List& columns) {
  std::vector<Column> out;
  if (columns.size() == 0) return out;
  const CharacterVector names = columns.names();
  for (R_xlen_t i = 0; i < columns.size(); ++i) {
    out.push_back(kernel_column(columns[i]));
    out.back().name = Rf_translateCharUTF8(names[i]);
  }
  return out;
}

namespace {

// Tells R how far the work is, at most ten times a second.
void set_progress_hook(const Function& tell) {
  auto last = std::chrono::steady_clock::now();
  context().progress = [tell, last](double done) mutable {
    const auto now = std::chrono::steady_clock::now();
    if (now - last < std::chrono::milliseconds(100)) return;
    last = now;
    tell(done);
  };
}

}  // namespace

// `tell` is called with the fraction done of the present step; NULL for nobody to tell.
// [[Rcpp::export]]
void core_set_progress(Nullable<Function> tell) {
  context().progress = nullptr;
  if (tell.isNotNull()) set_progress_hook(Function(tell));
}

// [[Rcpp::export]]
void core_start() {
  context().interrupt_requested = [] { return R_ToplevelExec(check_interrupt, nullptr) == FALSE; };
}

// [[Rcpp::export]]
void core_give_memory_back() { give_memory_back(); }

// [[Rcpp::export]]
int core_processors() {
  static const auto count = static_cast<int>(std::max(1u, std::thread::hardware_concurrency()));  // asks the system
  return count;
}

// Threads below one are as many as there are processors; so many bytes may a source unpack to.
// [[Rcpp::export]]
void core_set_limits(int threads, double unpacked, double index_bytes) {
  context().threads = static_cast<unsigned>(threads < 1 ? core_processors() : threads);
  context().unpack_bytes = unpacked;
  limit_kept_indexes(index_bytes);
}

// [[Rcpp::export]]
double core_forget_indexes() { return forget_indexes(); }

// [[Rcpp::export]]
double core_room_for(double source) { return room_for(static_cast<std::size_t>(source)); }

// The number of a process forked from R, in which it is 0; which may take so many bytes of memory, and harms the first
// one in no way as it ends.
// [[Rcpp::export]]
int core_fork(double memory) {
  const int child = fork_process();
  if (child == 0) {
    end_without_trace();
    limit_memory(memory);
  }
  return child;
}

// [[Rcpp::export]]
void core_end_at_once() { end_at_once(); }

// [[Rcpp::export]]
void core_wait_for(int process) { wait_for_process(process); }

// Called by R before it unloads the library, whose code the threads run.
extern "C" void R_unload_civicatlas(DllInfo*) { civic::end_threads(); }

// From the system's source, so that nobody can guess them.
// [[Rcpp::export]]
RawVector core_random_bytes(int count) {
  std::random_device source;
  RawVector bytes(count);
  for (auto& byte : bytes) byte = static_cast<Rbyte>(source() & 0xFF);
  return bytes;
}

// [[Rcpp::export(rng = false)]]
bool core_is_plain_data(const RawVector& serialized) {
  return is_plain_data(serialized.begin(), static_cast<std::size_t>(serialized.size()));
}
