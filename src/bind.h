// What the bindings share: R's plain vectors as the core's views, and back.
#pragma once
#include <Rcpp.h>

#include <vector>

#include "kernel/formats/bytes.h"
#include "kernel/formats/columns.h"
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

// A file named by a string, or the bytes of a raw vector.
class ByteSource {
 public:
  explicit ByteSource(SEXP source);
  civic::ByteSpan bytes() const { return bytes_; }
  civic::ByteSpan padded();  // with FileContent's padding after the end

 private:
  civic::FileContent content_;
  civic::ByteSpan bytes_;
  bool padded_ = false;
};

Rcpp::RawVector r_raw(const std::vector<std::uint8_t>& bytes);
Rcpp::DataFrame r_notices(const civic::Notices& notices);
SEXP r_column(civic::Column& column);
std::vector<civic::Column> kernel_columns(const Rcpp::List& columns);

template <class T>
Rcpp::Vector<Rcpp::traits::r_sexptype_traits<T>::rtype> r_vector(std::vector<T>& values) {
  Rcpp::Vector<Rcpp::traits::r_sexptype_traits<T>::rtype> out(values.begin(), values.end());
  std::vector<T>().swap(values);
  return out;
}
