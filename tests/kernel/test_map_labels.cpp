// Places of labels, against a comparison of all pairs.
#include <catch2/catch.hpp>
#include <cmath>
#include <random>

#include "kernel/maps/label_places.h"

using namespace civic;

TEST_CASE("labels lie on the map and over no other, and none is left out that has room") {
  std::mt19937 random(7);
  std::uniform_real_distribution<double> across(-10, 110), up(-10, 90), width(2, 30), height(1, 4);
  for (int run = 0; run < 40; ++run) {
    std::vector<Label> labels;
    for (int i = 0; i < 120; ++i)
      labels.push_back({across(random), up(random), width(random), height(random), i % 2 == 0});
    const auto places = label_places(labels, 100, 80, 0.5);
    REQUIRE(places.size() == labels.size());
    auto apart = [&](std::size_t i, double x, double y, std::size_t j) {
      return std::abs(x - places[j].x) >= (labels[i].width + labels[j].width) / 2 + 1 - 1e-9 ||
             std::abs(y - places[j].y) >= (labels[i].height + labels[j].height) / 2 + 1 - 1e-9;
    };
    for (std::size_t i = 0; i < labels.size(); ++i) {
      const Label& label = labels[i];
      if (std::isnan(places[i].x)) {
        if (label.beside) continue;
        // The first place that is tried is the anchor itself.
        bool free = std::abs(label.x - 50) <= 50 - label.width / 2 - 0.5 &&
                    std::abs(label.y - 40) <= 40 - label.height / 2 - 0.5;
        for (std::size_t j = 0; j < i; ++j)
          if (!std::isnan(places[j].x) && !apart(i, label.x, label.y, j)) free = false;
        CHECK(!free);
        continue;
      }
      CHECK(std::abs(places[i].x - 50) <= 50 - label.width / 2);
      CHECK(std::abs(places[i].y - 40) <= 40 - label.height / 2);
      for (std::size_t j = 0; j < i; ++j)
        if (!std::isnan(places[j].x)) CHECK(apart(i, places[i].x, places[i].y, j));
    }
  }
  CHECK(label_places({}, 100, 80, 0.5).empty());
  const std::vector<Label> odd{{nan(""), 1, 1, 1, true}, {50, 40, 1e9, 1, false}, {50, 40, 1, 1e9, false}};
  for (const LabelPlace& place : label_places(odd, 100, 80, 0.5)) CHECK(std::isnan(place.x));
}
