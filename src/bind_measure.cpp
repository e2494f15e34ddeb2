#include "bind.h"
#include "bind_crs.h"
#include "kernel/base/parallel.h"
#include "kernel/crs/distortion.h"
#include "kernel/measure/distance.h"
#include "kernel/measure/ellipsoidal.h"
#include "kernel/measure/globe_shape.h"
#include "kernel/measure/inner_point.h"
#include "kernel/measure/local_plane.h"
#include "kernel/measure/planar.h"

using namespace Rcpp;
using namespace civic;

namespace {

// value(store, shape) of each row, NA where the shape is missing.
template <class Value>
NumericVector each_row(const ShapeRows& rows, const Value& value) {
  NumericVector out(no_init(rows.size()));
  double* values = out.begin();
  const double missing = NA_REAL;
  parallel_for(rows.size(), 256, [&](std::size_t begin, std::size_t end) {
    for (int i = static_cast<int>(begin); i < static_cast<int>(end); ++i)
      values[i] = rows[i] < 0 ? missing : value(rows.store, rows[i]);
  });
  return out;
}

// value(i) of n elements, NA where it is NaN.
template <class Value>
NumericVector each_element(R_xlen_t n, const Value& value) {
  NumericVector out(no_init(n));
  double* values = out.begin();
  const double missing = NA_REAL;
  parallel_for(n, 64, [&](std::size_t begin, std::size_t end) {
    for (std::size_t i = begin; i < end; ++i) {
      const double v = value(i);
      values[i] = std::isnan(v) ? missing : v;
    }
  });
  return out;
}

Ellipsoid ellipsoid_of(const List& crs) { return kernel_crs(crs).datum.ellipsoid; }

}  // namespace

// Planar area, length or perimeter of each row in coordinate units; NA where the shape is missing.
// [[Rcpp::export]]
NumericVector core_planar_measure(IntegerVector handles, List store, std::string measure) {
  return each_row(shape_rows(handles, store), measure == "area"     ? planar_area
                                              : measure == "length" ? planar_length
                                                                    : planar_perimeter);
}

// The same on longitude and latitude in degrees, along the ellipsoid of a CRS, in metres.
// [[Rcpp::export]]
NumericVector core_ellipsoidal_measure(IntegerVector handles, List store, std::string measure, List crs) {
  const Geodesic geodesic(ellipsoid_of(crs));
  const auto one = measure == "area"     ? ellipsoidal_area
                   : measure == "length" ? ellipsoidal_length
                                         : ellipsoidal_perimeter;
  return each_row(shape_rows(handles, store), [&](const StoreView& s, int shape) { return one(geodesic, s, shape); });
}

// Areas or lengths of shapes whose edges are straight in degrees.
// [[Rcpp::export]]
NumericVector core_straight_measure(IntegerVector handles, List store, std::string measure, List crs) {
  const Ellipsoid ellipsoid = ellipsoid_of(crs);
  const auto one = measure == "area" ? straight_area : straight_length;
  return each_row(shape_rows(handles, store), [&](const StoreView& s, int shape) { return one(ellipsoid, s, shape); });
}

// Distance of each row of x from the same row of y, one of which may have one row: planar in coordinate units, or, with
// a CRS, along its ellipsoid in metres on degrees.
// [[Rcpp::export]]
NumericVector core_distance(IntegerVector x_handles, List x_store, IntegerVector y_handles, List y_store,
                            Nullable<List> crs) {
  const ShapeRows x = shape_rows(x_handles, x_store), y = shape_rows(y_handles, y_store);
  const R_xlen_t n = x.size() == 0 || y.size() == 0 ? 0 : std::max(x.size(), y.size());
  auto pairs = [n](const ShapeRows& x, const ShapeRows& y, const auto& distance) {
    return each_element(n, [&](std::size_t i) {
      const int a = x.size() == 1 ? 0 : static_cast<int>(i), b = y.size() == 1 ? 0 : static_cast<int>(i);
      return x[a] < 0 || y[b] < 0 ? nan_value : distance(a, b);
    });
  };
  if (crs.isNull())
    return pairs(x, y, [&](int a, int b) { return nearest_places(x.store, x[a], y.store, y[b]).distance; });
  const Globe globe(ellipsoid_of(List(crs)));
  const GlobeRows on_x(globe, x), on_y(globe, y);
  return pairs(x, y, [&](int a, int b) { return distance_of_rows(globe, on_x, a, on_y, b, HUGE_VAL); });
}

// The inverse geodesic problem on the ellipsoid of a CRS: degrees in, metres and degrees out.
// [[Rcpp::export]]
List core_geodesic_inverse(NumericVector lon1, NumericVector lat1, NumericVector lon2, NumericVector lat2, List crs) {
  const Geodesic geodesic(ellipsoid_of(crs));
  const R_xlen_t n = lon1.size();
  NumericVector distance(n), azimuth1(n), azimuth2(n);
  double *d = distance.begin(), *a1 = azimuth1.begin(), *a2 = azimuth2.begin();
  const double *x1 = lon1.begin(), *y1 = lat1.begin(), *x2 = lon2.begin(), *y2 = lat2.begin();
  const double missing = NA_REAL;
  parallel_for(n, 1024, [&](std::size_t begin, std::size_t end) {
    for (std::size_t i = begin; i < end; ++i) {
      const GeodesicArc arc = geodesic.inverse({x1[i], y1[i]}, {x2[i], y2[i]});
      d[i] = std::isnan(arc.distance) ? missing : arc.distance;
      a1[i] = std::isnan(arc.distance) ? missing : arc.azimuth1;
      a2[i] = std::isnan(arc.distance) ? missing : arc.azimuth2;
    }
  });
  return List::create(_["distance"] = distance, _["azimuth_from"] = azimuth1, _["azimuth_to"] = azimuth2);
}

// The direct problem.
// [[Rcpp::export]]
List core_geodesic_direct(NumericVector lon, NumericVector lat, NumericVector azimuth, NumericVector distance,
                          List crs) {
  const Geodesic geodesic(ellipsoid_of(crs));
  const R_xlen_t n = lon.size();
  NumericVector to_lon(n), to_lat(n), to_azimuth(n);
  for (R_xlen_t i = 0; i < n; ++i) {
    const GeodesicEnd end = geodesic.direct({lon[i], lat[i]}, azimuth[i], distance[i]);
    to_lon[i] = std::isnan(end.longitude) ? NA_REAL : end.longitude;
    to_lat[i] = std::isnan(end.longitude) ? NA_REAL : end.latitude;
    to_azimuth[i] = std::isnan(end.longitude) ? NA_REAL : end.azimuth;
  }
  return List::create(_["x"] = to_lon, _["y"] = to_lat, _["azimuth"] = to_azimuth);
}

// Distortion of a projected CRS at places in degrees from its own prime meridian.
// [[Rcpp::export]]
List core_distortion(NumericVector lon, NumericVector lat, List crs) {
  const DistortionMeter meter(kernel_crs(crs));
  const R_xlen_t n = lon.size();
  NumericVector least(n, NA_REAL), greatest(n, NA_REAL), area(n, NA_REAL), angle(n, NA_REAL), convergence(n, NA_REAL);
  for (R_xlen_t i = 0; i < n; ++i) {
    const Distortion d = meter.at(lon[i] * M_PI / 180, lat[i] * M_PI / 180);
    if (std::isnan(d.area)) continue;
    least[i] = d.least;
    greatest[i] = d.greatest;
    area[i] = d.area;
    angle[i] = d.angle;
    convergence[i] = d.convergence;
  }
  return List::create(_["least_scale"] = least, _["greatest_scale"] = greatest, _["area_scale"] = area,
                      _["angle"] = angle, _["convergence"] = convergence);
}

namespace {

template <class Find>
List one_point_each(const ShapeRows& rows, const Find& find) {
  std::vector<double> x(rows.size(), NA_REAL), y(rows.size(), NA_REAL);
  parallel_for(x.size(), 64, [&](std::size_t begin, std::size_t end) {
    for (std::size_t i = begin; i < end; ++i) {
      if (rows[static_cast<int>(i)] < 0) continue;
      const Coordinate place = find(rows.store, rows[static_cast<int>(i)]);
      x[i] = place.x;
      y[i] = place.y;
    }
  });
  return List::create(_["x"] = r_vector(x), _["y"] = r_vector(y));
}

}  // namespace

// [[Rcpp::export]]
List core_planar_centroids(IntegerVector handles, List store) {
  return one_point_each(shape_rows(handles, store), planar_centroid);
}

// On longitude and latitude in degrees, on the ellipsoid of a CRS.
// [[Rcpp::export]]
List core_globe_centroids(IntegerVector handles, List store, List crs) {
  const Ellipsoid ellipsoid = ellipsoid_of(crs);
  const Globe globe(ellipsoid);
  return one_point_each(shape_rows(handles, store), [&](const StoreView& s, int shape) {
    const GeoPoint at = globe_centroid(globe, ellipsoid, s, shape);
    return Coordinate{at.longitude, at.latitude};
  });
}

// [[Rcpp::export]]
List core_inner_points(IntegerVector handles, List store) {
  return one_point_each(shape_rows(handles, store), inner_point);
}
