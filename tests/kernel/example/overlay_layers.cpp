// A program without R: reads two GeoJSON files, cuts their shapes where they meet, and writes the pieces with the
// columns of both. usage: overlay_layers ONE.geojson OTHER.geojson OUTPUT.geojson
#include <iostream>
#include <numeric>

#include "kernel/civic.h"

namespace {

civic::GeojsonLayer read(const std::string& path) {
  const civic::InputFile file(path);
  return civic::decode_geojson(file.read(0, file.size()).bytes(), {});
}

// The columns of a layer for the rows that pieces come from.
void take(std::vector<civic::Column>& columns, const civic::GeojsonLayer& layer, const std::vector<int>& rows) {
  for (const civic::Column& from : layer.columns) {
    civic::Column& to = columns.emplace_back();
    to.name = from.name;
    to.type = from.type;
    for (const int row : rows) {
      const auto at = static_cast<std::size_t>(row);
      if (!from.integers.empty()) to.integers.push_back(from.integers[at]);
      if (!from.reals.empty()) to.reals.push_back(from.reals[at]);
      if (from.type == civic::ColumnType::text) to.texts.push(from.texts[at]);
    }
  }
}

}  // namespace

int main(int count, char** arguments) try {
  if (count != 4) throw civic::ArgumentError("usage: overlay_layers ONE.geojson OTHER.geojson OUTPUT.geojson");
  const civic::GeojsonLayer one = read(arguments[1]), other = read(arguments[2]);
  const civic::Pieces pieces =
      civic::overlay({one.store.view(), one.handles}, {other.store.view(), other.handles}, {.both = true});
  std::vector<civic::Column> columns;
  take(columns, one, pieces.x);
  take(columns, other, pieces.y);
  std::vector<int> handles(pieces.x.size());
  std::iota(handles.begin(), handles.end(), 1);
  civic::Notices notices;
  civic::FileWriter file(arguments[3]);
  file.write(civic::encode_geojson({pieces.store.view(), handles}, columns, {}, notices));
  file.publish();
} catch (const civic::Error& problem) {
  std::cerr << problem.what() << '\n';
  return 1;
}
