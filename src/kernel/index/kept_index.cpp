#include "kept_index.h"

#include <array>
#include <bit>
#include <list>
#include <mutex>

#include "../base/parallel.h"

namespace civic {
namespace {

constexpr int least_rows = 1000;       // below which building takes less than looking up is worth
constexpr double bytes_a_row = 40;     // a box and a number, and what nodes add
constexpr double usual_bytes = 1.6e8;  // the layers of one piece of work

// 128 bits.
struct Fingerprint {
  std::uint64_t first = 0, second = 0;
  bool operator==(const Fingerprint&) const = default;
};

// Chains of multiplications by odd constants, taken from the digits of pi, one for each edge of boxes so that they run
// side by side.
class Fingerprinter {
 public:
  void add(const Box& box) {
    const double edges[4] = {box.xmin, box.ymin, box.xmax, box.ymax};
    for (int k = 0; k < 4; ++k) {
      chains_[k] = (chains_[k] ^ std::bit_cast<std::uint64_t>(edges[k])) * 0x243f6a8885a308d3u;
      chains_[k] ^= chains_[k] >> 32;
    }
  }
  void add(std::uint64_t value) {
    print_.first = (print_.first ^ value) * 0x243f6a8885a308d3u;
    print_.first ^= print_.first >> 32;
    print_.second = std::rotl(print_.second + value, 29) * 0x13198a2e03707345u;
  }
  Fingerprint print() {
    for (const std::uint64_t chain : chains_) add(chain);
    return print_;
  }

 private:
  std::array<std::uint64_t, 4> chains_{0xa4093822299f31d0u, 0x082efa98ec4e6c89u, 0x452821e638d01377u,
                                       0xbe5466cf34e90c6cu};
  Fingerprint print_;
};

Fingerprint fingerprint_of(const ShapeRows& rows) {
  constexpr std::size_t grain = 1 << 16;
  const auto n = static_cast<std::size_t>(rows.size());
  std::vector<Fingerprint> prints((n + grain - 1) / grain);
  parallel_for(n, grain, [&](std::size_t begin, std::size_t end) {
    Fingerprinter printer;
    for (std::size_t row = begin; row < end; ++row) printer.add(rows.box(static_cast<int>(row)));
    prints[begin / grain] = printer.print();
  });
  Fingerprinter whole;
  for (const Fingerprint& print : prints) {
    whole.add(print.first);
    whole.add(print.second);
  }
  whole.add(n);
  return whole.print();
}

}  // namespace

// The last used first.
class KeptIndexes {
  struct Kept {
    Fingerprint print;
    std::shared_ptr<const RTree> tree;
  };

 public:
  std::shared_ptr<const RTree> find(const Fingerprint& print) {
    const std::lock_guard guard(lock_);
    for (auto kept = kept_.begin(); kept != kept_.end(); ++kept)
      if (kept->print == print) {
        kept_.splice(kept_.begin(), kept_, kept);
        return kept->tree;
      }
    return nullptr;
  }
  void keep(const Fingerprint& print, const std::shared_ptr<const RTree>& tree) {
    const std::lock_guard guard(lock_);
    kept_.push_front({print, tree});
    prune();
  }
  void limit(double bytes) {
    const std::lock_guard guard(lock_);
    if (bytes == most_) return;
    most_ = bytes;
    prune();
  }
  double forget() {
    const std::lock_guard guard(lock_);
    double bytes = 0;
    for (const Kept& kept : kept_) bytes += bytes_of(kept);
    kept_.clear();
    return bytes;
  }

 private:
  static double bytes_of(const Kept& kept) { return bytes_a_row * static_cast<double>(kept.tree->size()); }
  void prune() {
    double bytes = 0;
    for (auto kept = kept_.begin(); kept != kept_.end();) {
      bytes += bytes_of(*kept);
      kept = bytes > most_ ? kept_.erase(kept) : std::next(kept);
    }
  }

  std::mutex lock_;
  std::list<Kept> kept_;
  double most_ = usual_bytes;
};

namespace {

KeptIndexes& kept_indexes() {
  static std::mutex making;  // as threads may share a context
  const std::lock_guard guard(making);
  if (!context().indexes) context().indexes = std::make_shared<KeptIndexes>();
  return *context().indexes;
}

}  // namespace

void limit_kept_indexes(double bytes) { kept_indexes().limit(bytes); }

double forget_indexes() { return kept_indexes().forget(); }

std::shared_ptr<const RTree> index_of(const ShapeRows& rows) {
  if (rows.size() < least_rows) return std::make_shared<const RTree>(rows);
  const Fingerprint print = fingerprint_of(rows);
  if (auto kept = kept_indexes().find(print)) return kept;
  auto tree = std::make_shared<const RTree>(rows);
  kept_indexes().keep(print, tree);
  return tree;
}

}  // namespace civic
