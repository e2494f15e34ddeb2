// Datum shifts from NTv2 grid files (Geodetic Survey of Canada, "NTv2 developer's guide"; EPSG method 9615): bilinear
// interpolation in the finest sub-grid that holds a point, in either direction.
#pragma once
#include <memory>
#include <string>
#include <vector>

#include "../io/bytes.h"
#include "crs.h"

namespace civic {

class GridShift {
 public:
  // Reads the bytes of a .gsb file of either byte order; throws FormatError with the byte of what is wrong.
  static std::shared_ptr<const GridShift> read(ByteSpan bytes, std::string name);

  struct System {
    std::string name;
    double semi_major, semi_minor;
  };
  const std::string& name() const { return name_; }
  const System& from() const { return from_; }
  const System& to() const { return to_; }

  // Whether the file shifts from or to the datum of a CRS: the ellipsoids agree, and every word of the system's name
  // stands in that of the datum or of the geographic CRS.
  static bool is_of(const System& system, const Crs& crs);

  // From the first system to the second, in place, radians east and north; false where no grid holds the point.
  bool forward(double& longitude, double& latitude) const;
  // Back again, by iteration.
  bool inverse(double& longitude, double& latitude) const;
  // Mean of the stated accuracies, metres; 0 where the file states none.
  double accuracy() const { return accuracy_; }

 private:
  struct Grid {
    std::string name, parent;
    double south, north, east, west, latitude_step, longitude_step;  // arc-seconds, longitudes positive to the west
    int rows, columns;
    std::vector<float> shifts;  // latitude and longitude of each node, from the south-east, westward, then northward
    std::vector<int> finer;
    bool holds(double west_longitude, double latitude) const;
  };
  const Grid* finest(double west_longitude, double latitude) const;

  std::string name_;
  System from_, to_;
  std::vector<Grid> grids_;
  std::vector<int> coarsest_;
  double accuracy_ = 0;
};

}  // namespace civic
