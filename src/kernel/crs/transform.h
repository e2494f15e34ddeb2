// From one CRS to another: inverse projection, datum shift through WGS 84, forward projection.
#pragma once
#include <memory>
#include <string>
#include <vector>

#include "../shapes/store.h"
#include "crs.h"
#include "projection.h"

namespace civic {

// A shift between two datums as one linear map of geocentric coordinates.
class DatumStep {
 public:
  DatumStep(const Datum& from, const Datum& to);
  // Longitudes from Greenwich and latitudes in radians, heights 0.
  void apply(double* longitude, double* latitude, std::size_t n) const;
  // The same with heights in metres.
  void apply(double* longitude, double* latitude, double* height, std::size_t n) const;

 private:
  Ellipsoid from_, to_;
  double matrix_[3][3], offset_[3];
};

class Transform {
 public:
  // Throws CrsError where no way leads from one to the other: a method that is not available, a datum without a
  // published shift.
  Transform(const Crs& from, const Crs& to);

  // In place; coordinates outside a domain become NaN in both columns. Runs in parallel.
  void apply(double* x, double* y, std::size_t n) const;

  // All shapes of a store, with their boxes and the direction of their rings. Says for each shape whether one of its
  // vertices lies outside a domain.
  std::vector<char> apply(StoreBuffer& store) const;

  // Accuracy of the datum shifts as stated, in metres; 0 where none is taken or stated.
  double stated_accuracy() const { return accuracy_; }
  // What happens, in words, one line a step.
  const std::vector<std::string>& steps() const { return steps_; }

 private:
  void apply_batch(double* x, double* y, std::size_t n) const;
  std::unique_ptr<Projection> from_, to_;
  std::unique_ptr<DatumStep> datum_;
  double meridian_from_, meridian_to_;
  double accuracy_ = 0;
  std::vector<std::string> steps_;
};

}  // namespace civic
