// What the bindings share: R's plain vectors as the core's views, and back.
#pragma once
#include <Rcpp.h>

#include <memory>
#include <optional>
#include <span>
#include <vector>

#include "kernel/formats/blobs.h"
#include "kernel/formats/columns.h"
#include "kernel/io/bytes.h"
#include "kernel/shapes/store.h"

civic::StoreView store_view(const Rcpp::List& store);
civic::ShapeRows shape_rows(const Rcpp::IntegerVector& handles, const Rcpp::List& store);
Rcpp::List r_store(civic::StoreBuffer& buffer);  // empties the buffer column by column

// A store of R vectors of the given size, and writable views of them.
struct RStore {
  explicit RStore(const civic::StoreCounts& counts);
  civic::StoreTarget target;
  Rcpp::List list;
};

// A file named by a string, an entry of a zip archive (a list of `archive` and `entry`) or the bytes of a raw vector.
// What is packed by gzip is unpacked.
class SourceFile {
 public:
  explicit SourceFile(SEXP source);
  const civic::InputFile& file() const { return *file_; }
  civic::ByteSpan padded();  // the whole, with FileContent's padding after the end

 private:
  void unpack();
  civic::FileContent content_;
  std::unique_ptr<civic::InputFile> file_;
  Rcpp::RObject kept_;  // the raw vector whose bytes are read
};

Rcpp::RawVector r_raw(const std::vector<std::uint8_t>& bytes);
Rcpp::DataFrame r_notices(const civic::Notices& notices);
// The store, handles and notices of what was decoded.
Rcpp::List r_blobs(const civic::BlobDecoder& decoder);
// Empties the column.
SEXP r_column(civic::Column& column);
// Fills a character vector as long as the texts; whether one of them is beyond ASCII.
bool fill_strings(const civic::TextColumn& texts, SEXP column);
Rcpp::List r_columns(std::vector<civic::Column>& columns);  // named, in UTF-8
std::optional<civic::Box> optional_box(const Rcpp::Nullable<Rcpp::NumericVector>& edges);
std::vector<civic::Column> kernel_columns(const Rcpp::List& columns);

// Of a vector that is const the values are.
template <class Vector>
auto span_of(Vector& values) {
  return std::span(values.begin(), static_cast<std::size_t>(values.size()));
}

template <class T>
Rcpp::Vector<Rcpp::traits::r_sexptype_traits<T>::rtype> r_vector(std::vector<T>& values) {
  Rcpp::Vector<Rcpp::traits::r_sexptype_traits<T>::rtype> out(values.begin(), values.end());
  std::vector<T>().swap(values);
  return out;
}
