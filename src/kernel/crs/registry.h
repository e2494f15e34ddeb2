// The registry of coordinate reference systems: facts of the EPSG Geodetic Parameter Dataset (IOGP) in a table of
// tab-separated records, gzipped (data-raw/registry.R says which), indexed by code when loaded, parsed when asked for.
#pragma once
#include <map>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "crs.h"

namespace civic {

class Registry {
 public:
  static Registry load(const std::string& path);

  // The CRS of an EPSG code; none where the registry lacks it.
  std::optional<Crs> find(int code) const;

  // The lowest code that means the same as `crs`, if there is one without heights; 0 where there is none.
  int match(const Crs& crs) const;

  // The datum on the same ellipsoid that a geographic CRS of that code is on, or whose name, or that of a geographic
  // CRS on it, spells the same; none where the registry lacks it.
  std::optional<Datum> find_datum(const Datum& datum, int geographic_code = 0) const;

  // Known codes that an unknown one may have been meant for: those with two digits the other way round, then the
  // closest.
  std::vector<int> codes_near(int code, int count) const;
  std::size_t size() const { return rows_.size(); }

  // All rows in the order of their codes.
  std::vector<int> codes() const;

 private:
  using Record = std::string_view;
  Crs parse(Record record) const;
  bool same_projection(Record record, const Crs& crs) const;
  Datum parse_datum(int id) const;
  void index_datum_names();
  AreaOfUse parse_area(Record box, Record id) const;

  std::string text_;
  std::vector<std::pair<int, Record>> rows_;  // by code
  std::vector<Record> datums_, methods_, areas_;
  std::multimap<std::string, int> datum_names_;  // keys of the names of datums and of the geographic CRSs on them
};

}  // namespace civic
