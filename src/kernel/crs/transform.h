// From one CRS to another: inverse projection, datum shift through WGS 84, forward projection.
#pragma once
#include <atomic>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "crs.h"
#include "grid_shift.h"
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

// One step on the way from one CRS to another, in words, and how exact it is said to be: metres, 0 for exact or not
// stated.
struct TransformStep {
  std::string text;
  double accuracy;
};

class Transform {
 public:
  using Grids = std::vector<std::shared_ptr<const GridShift>>;

  // Throws CrsError where no way leads from one to the other: a method that is not available, a datum without a
  // published shift. A grid that belongs to one of the datums goes before the published shift, which serves where the
  // grid does not reach.
  Transform(const Crs& from, const Crs& to, const Grids& grids = {});

  // In place; coordinates outside a domain become NaN in both columns. Runs in parallel.
  void apply(double* x, double* y, std::size_t n) const;

  // The same on the calling thread alone.
  void apply_here(double* x, double* y, std::size_t n) const { apply_batch(x, y, n); }

  // Accuracy of the datum shifts as stated, in metres; 0 where none is taken or stated.
  double stated_accuracy() const;
  const std::vector<TransformStep>& steps() const { return steps_; }
  // Of the points so far, those that a grid was to shift and did not hold.
  std::size_t beyond_grids() const { return beyond_; }
  // Whether a datum wants a grid and none was at hand.
  bool lacks_grid() const { return lacks_grid_; }

 private:
  struct GridStep {
    std::shared_ptr<const GridShift> grid;
    bool forward;
    bool apply(double& longitude, double& latitude) const;
    const GridShift::System& start() const { return forward ? grid->from() : grid->to(); }
    const GridShift::System& end() const { return forward ? grid->to() : grid->from(); }
    TransformStep described() const;
  };
  static std::optional<GridStep> grid_between(const Crs& from, const Crs* to, const Grids& grids);
  void plan_shift(const Crs& from, const Crs& to, const Grids& grids);
  bool shift_by_grids(double& longitude, double& latitude) const;
  void shift_datum(double* x, double* y, std::size_t n) const;
  void apply_batch(double* x, double* y, std::size_t n) const;

  std::unique_ptr<Projection> from_, to_;
  std::optional<GridStep> first_grid_, last_grid_;
  std::unique_ptr<DatumStep> datum_, between_;  // the whole shift by parameters; what is left of it beside the grids
  double meridian_from_, meridian_to_;
  bool both_geographic_, lacks_grid_ = false;
  double degrees_from_, degrees_to_;  // in a unit of geographic coordinates
  std::vector<TransformStep> steps_;
  mutable std::atomic<std::size_t> beyond_{0};
};

}  // namespace civic
