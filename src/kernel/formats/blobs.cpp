#include "blobs.h"

#include "../base/error.h"
#include "../base/parallel.h"
#include "../shapes/wkb.h"
#include "geopackage.h"

namespace civic {

std::vector<char> BlobDecoder::add(const std::vector<ByteSpan>& blobs) {
  constexpr std::size_t grain = 4096;
  std::vector<Piece> pieces((blobs.size() + grain - 1) / grain);
  parallel_for(blobs.size(), grain, [&](std::size_t begin, std::size_t end) {
    Piece& piece = pieces[begin / grain];
    ShapeBuilder builder;
    std::size_t bytes = 0;
    for (std::size_t i = begin; i < end; ++i) bytes += blobs[i].size();
    if (!within_) builder.reserve(end - begin, bytes / 16);
    for (std::size_t i = begin; i < end; ++i) decode(blobs[i], rows_ + i, builder, piece);
    piece.store = builder.take();
    orient_rings(piece.store.target(), {0, static_cast<int>(piece.store.types.size())});
  });
  std::vector<char> kept;
  for (Piece& piece : pieces) {
    kept.insert(kept.end(), piece.kept.begin(), piece.kept.end());
    for (const int handle : piece.handles)
      handles_.push_back(handle == missing_ ? missing_ : handle + static_cast<int>(shapes_));
    shapes_ += piece.store.types.size();
    notices_.add(piece.notices);
    if (!piece.store.types.empty()) stores_.push_back(std::move(piece.store));
  }
  rows_ += blobs.size();
  return kept;
}

void BlobDecoder::decode(ByteSpan blob, std::size_t row, ShapeBuilder& builder, Piece& piece) const {
  const ShapeBuilder::Mark mark = builder.mark();
  bool keep = !within_, shape = false;
  try {
    if (!blob.empty()) {
      std::optional<Box> envelope;
      if (form_ == BlobForm::geopackage) {
        const GeopackageHeader header = read_geopackage_header(blob);
        envelope = header.envelope;
        blob = blob.subspan(header.size);
      }
      shape = !within_ || !envelope || envelope->meets(*within_);
      if (shape) read_wkb(blob, builder);
      if (within_) keep = shape && builder.last_box().meets(*within_);
    }
  } catch (const FormatError& problem) {
    const std::string where = "row " + std::to_string(row + 1) + ": " + problem.what();
    if (!skip_damaged_) throw FormatError(where);
    piece.notices.add("shapes are damaged and became missing", where);
    builder.rewind(mark);
    shape = false;
  }
  if (shape && !keep) builder.rewind(mark);
  piece.kept.push_back(keep);
  if (keep) piece.handles.push_back(shape ? builder.size() : missing_);
}

std::vector<StoreView> BlobDecoder::stores() const {
  std::vector<StoreView> views;
  for (const StoreBuffer& store : stores_) views.push_back(store.view());
  return views;
}

}  // namespace civic
