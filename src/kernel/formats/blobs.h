// Shapes that come as one blob each, as from the rows of a database: decoded in parallel, batch after batch.
#pragma once
#include <optional>
#include <vector>

#include "../io/bytes.h"
#include "../shapes/store.h"
#include "columns.h"

namespace civic {

enum class BlobForm { wkb, geopackage };

class BlobDecoder {
 public:
  BlobDecoder(BlobForm form, int missing, std::optional<Box> within, bool skip_damaged)
      : form_(form), missing_(missing), within_(within), skip_damaged_(skip_damaged) {}

  // Decodes a batch; an empty span is a missing shape. Returns for each blob whether its row is kept: all rows, or
  // with a window those whose box meets it. Throws FormatError that names the row.
  std::vector<char> add(const std::vector<ByteSpan>& blobs);

  // Handles of the rows kept so far, 1-based, and the stores they run through, one after the other.
  const std::vector<int>& handles() const { return handles_; }
  std::vector<StoreView> stores() const;
  const Notices& notices() const { return notices_; }

 private:
  struct Piece {
    StoreBuffer store;
    std::vector<int> handles;  // of the piece, 1-based within its store
    std::vector<char> kept;
    Notices notices;
  };
  void decode(ByteSpan blob, std::size_t row, ShapeBuilder& builder, Piece& piece) const;

  const BlobForm form_;
  const int missing_;
  const std::optional<Box> within_;
  const bool skip_damaged_;
  std::size_t rows_ = 0, shapes_ = 0;
  std::vector<StoreBuffer> stores_;
  std::vector<int> handles_;
  Notices notices_;
};

}  // namespace civic
