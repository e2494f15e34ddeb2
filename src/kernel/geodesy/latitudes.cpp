#include "latitudes.h"

namespace civic {
namespace {

// Value of coefficients[0] n^first + coefficients[1] n^(first + 1) + …
template <std::size_t N>
double polynomial(const double (&coefficients)[N], double n, int first) {
  double value = 0;
  for (std::size_t i = N; i-- > 0;) value = value * n + coefficients[i];
  return value * std::pow(n, first);
}

}  // namespace

AuxiliaryLatitude AuxiliaryLatitude::conformal(double n) {
  return {{polynomial({-2., 2. / 3, 4. / 3, -82. / 45, 32. / 45, 4642. / 4725}, n, 1),
           polynomial({5. / 3, -16. / 15, -13. / 9, 904. / 315, -1522. / 945}, n, 2),
           polynomial({-26. / 15, 34. / 21, 8. / 5, -12686. / 2835}, n, 3),
           polynomial({1237. / 630, -12. / 5, -24832. / 14175}, n, 4), polynomial({-734. / 315, 109598. / 31185}, n, 5),
           polynomial({444337. / 155925}, n, 6)},
          {polynomial({2., -2. / 3, -2., 116. / 45, 26. / 45, -2854. / 675}, n, 1),
           polynomial({7. / 3, -8. / 5, -227. / 45, 2704. / 315, 2323. / 945}, n, 2),
           polynomial({56. / 15, -136. / 35, -1262. / 105, 73814. / 2835}, n, 3),
           polynomial({4279. / 630, -332. / 35, -399572. / 14175}, n, 4),
           polynomial({4174. / 315, -144838. / 6237}, n, 5), polynomial({601676. / 22275}, n, 6)}};
}

AuxiliaryLatitude AuxiliaryLatitude::authalic(double n) {
  return {{polynomial({-4. / 3, -4. / 45, 88. / 315, 538. / 4725, 20824. / 467775, -44732. / 2837835}, n, 1),
           polynomial({34. / 45, 8. / 105, -2482. / 14175, -37192. / 467775, -12467764. / 212837625}, n, 2),
           polynomial({-1532. / 2835, -898. / 14175, 54968. / 467775, 100320856. / 1915538625}, n, 3),
           polynomial({6007. / 14175, 24496. / 467775, -5884124. / 70945875}, n, 4),
           polynomial({-23356. / 66825, -839792. / 19348875}, n, 5), polynomial({570284222. / 1915538625}, n, 6)},
          {polynomial({4. / 3, 4. / 45, -16. / 35, -2582. / 14175, 60136. / 467775, 28112932. / 212837625}, n, 1),
           polynomial({46. / 45, 152. / 945, -11966. / 14175, -21016. / 51975, 251310128. / 638512875}, n, 2),
           polynomial({3044. / 2835, 3802. / 14175, -94388. / 66825, -8797648. / 10945935}, n, 3),
           polynomial({6059. / 4725, 41072. / 93555, -1472637812. / 638512875}, n, 4),
           polynomial({768272. / 467775, 455935736. / 638512875}, n, 5), polynomial({4210684958. / 1915538625}, n, 6)}};
}

AuxiliaryLatitude AuxiliaryLatitude::rectifying(double n) {
  return {{polynomial({-3. / 2, 0., 9. / 16, 0., -3. / 32}, n, 1),
           polynomial({15. / 16, 0., -15. / 32, 0., 135. / 2048}, n, 2), polynomial({-35. / 48, 0., 105. / 256}, n, 3),
           polynomial({315. / 512, 0., -189. / 512}, n, 4), polynomial({-693. / 1280}, n, 5),
           polynomial({1001. / 2048}, n, 6)},
          {polynomial({3. / 2, 0., -27. / 32, 0., 269. / 512}, n, 1),
           polynomial({21. / 16, 0., -55. / 32, 0., 6759. / 4096}, n, 2),
           polynomial({151. / 96, 0., -417. / 128}, n, 3), polynomial({1097. / 512, 0., -15543. / 2560}, n, 4),
           polynomial({8011. / 2560}, n, 5), polynomial({293393. / 61440}, n, 6)}};
}

}  // namespace civic
