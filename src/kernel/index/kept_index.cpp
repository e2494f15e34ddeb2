#include "kept_index.h"

#include <bit>
#include <list>
#include <mutex>

namespace civic {
namespace {

constexpr int least_rows = 1000;            // below which building takes less than looking up is worth
constexpr std::size_t most_rows = 4000000;  // of all that is kept: about 160 MB

struct Fingerprint {
  std::uint64_t first = 0, second = 0;
  bool operator==(const Fingerprint&) const = default;
};

// 128 bits from two chains of multiplications by odd constants, taken from the digits of pi.
class Fingerprinter {
 public:
  void add(double value) {
    const auto bits = std::bit_cast<std::uint64_t>(value);
    print_.first = (print_.first ^ bits) * 0x243f6a8885a308d3u;
    print_.first ^= print_.first >> 32;
    print_.second = std::rotl(print_.second + bits, 29) * 0x13198a2e03707345u;
  }
  Fingerprint print() const { return print_; }

 private:
  Fingerprint print_{0xa4093822299f31d0u, 0x082efa98ec4e6c89u};
};

Fingerprint fingerprint_of(const ShapeRows& rows) {
  Fingerprinter printer;
  for (int row = 0; row < rows.size(); ++row) {
    const Box box = rows.box(row);
    for (const double edge : {box.xmin, box.ymin, box.xmax, box.ymax}) printer.add(edge);
  }
  printer.add(rows.size());
  return printer.print();
}

struct Kept {
  Fingerprint print;
  std::shared_ptr<const RTree> tree;
};

// The last used first.
class KeptIndexes {
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
    std::size_t rows = 0;
    for (auto kept = kept_.begin(); kept != kept_.end();) {
      rows += kept->tree->size();
      kept = rows > most_rows ? kept_.erase(kept) : std::next(kept);
    }
  }

 private:
  std::mutex lock_;
  std::list<Kept> kept_;
};

}  // namespace

std::shared_ptr<const RTree> index_of(const ShapeRows& rows) {
  if (rows.size() < least_rows) return std::make_shared<const RTree>(rows);
  static KeptIndexes indexes;
  const Fingerprint print = fingerprint_of(rows);
  if (auto kept = indexes.find(print)) return kept;
  auto tree = std::make_shared<const RTree>(rows);
  indexes.keep(print, tree);
  return tree;
}

}  // namespace civic
