// The registry of coordinate reference systems: facts of the EPSG Geodetic Parameter Dataset (IOGP) in a table of
// tab-separated records, gzipped (data-raw/registry.R says which), indexed by code when loaded, parsed when asked for.
#pragma once
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

  // The lowest code that means the same as `crs`, 0 where there is none.
  int match(const Crs& crs) const;

  // The datum whose name spells the same on the same ellipsoid; none where the registry lacks it.
  std::optional<Datum> find_datum(const Datum& datum) const;

  // Known codes closest to an unknown one, for error messages.
  std::vector<int> codes_near(int code, int count) const;
  std::size_t size() const { return rows_.size(); }

 private:
  using Record = std::string_view;
  Crs parse(Record record) const;
  bool same_projection(Record record, const Crs& crs) const;
  Datum parse_datum(int id) const;
  AreaOfUse parse_area(Record box, Record id) const;

  std::string text_;
  std::vector<std::pair<int, Record>> rows_;  // by code
  std::vector<Record> datums_, methods_, areas_;
};

}  // namespace civic
