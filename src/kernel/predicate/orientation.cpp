#include "orientation.h"

#include "../base/twofold.h"

namespace civic {
namespace {

// A sum of doubles that do not overlap, smallest first, which holds its value exactly.
class Expansion {
 public:
  void add_product(double a, double b) {
    const Twofold product = exact_product(a, b);
    add(product.low);
    add(product.high);
  }

  int sign() const {
    for (int i = size_ - 1; i >= 0; --i)
      if (terms_[i] != 0) return terms_[i] > 0 ? 1 : -1;
    return 0;
  }

 private:
  void add(double value) {
    for (int i = 0; i < size_; ++i) {
      const Twofold sum = exact_sum(value, terms_[i]);
      terms_[i] = sum.low;
      value = sum.high;
    }
    terms_[size_++] = value;
  }

  double terms_[12];
  int size_ = 0;
};

}  // namespace

int orientation_exact(double ax, double ay, double bx, double by, double cx, double cy) {
  // Most that the filter leaves: a point that is an end of the line, or on a line along an axis.
  if ((ax == cx || by == cy) && (ay == cy || bx == cx)) return 0;
  Expansion det;
  det.add_product(ax, by);
  det.add_product(-ay, bx);
  det.add_product(bx, cy);
  det.add_product(-by, cx);
  det.add_product(cx, ay);
  det.add_product(-cy, ax);
  return det.sign();
}

}  // namespace civic
