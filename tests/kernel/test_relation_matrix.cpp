#include <catch2/catch.hpp>

#include "kernel/predicate/validity.h"
#include "kernel/query/relate.h"
#include "vectors.h"

using namespace civic;
using test::store_of;

namespace {

std::string matrix_of(const std::string& a, const std::string& b) {
  const StoreBuffer store = store_of({a, b});
  const StoreView view = store.view();
  return relate(RelatedShape(view, 0), RelatedShape(view, 1)).text();
}

}  // namespace

TEST_CASE("matrices are those of exact arithmetic, whichever shape comes first") {
  test::for_each_vector("relate_vectors.jsonl", [&](const test::Vector& v) {
    const std::string a = v.text("a"), b = v.text("b"), matrix = v.text("matrix");
    CHECK(matrix_of(a, b) == matrix);
    std::string back;
    for (const int cell : {0, 3, 6, 1, 4, 7, 2, 5, 8}) back += matrix[cell];
    CHECK(matrix_of(b, a) == back);
    const StoreBuffer store = store_of({a, b});
    const StoreView view = store.view();
    const bool meets = matrix[0] != 'F' || matrix[1] != 'F' || matrix[3] != 'F' || matrix[4] != 'F';
    CHECK(intersects(RelatedShape(view, 0), RelatedShape(view, 1)) == meets);
  });
}

TEST_CASE("validity is judged as exact arithmetic does, for a reason that can be defended") {
  test::for_each_vector("invalid_vectors.jsonl", [&](const test::Vector& v) {
    const StoreBuffer store = store_of({v.text("wkt")});
    const std::string found = problem_name(check_shape(store.view(), 0).problem);
    bool accepted = found.empty() && v.text("reason").empty();
    for (const auto reason : v.fields["accept"].get_array()) accepted |= std::string(std::string_view(reason)) == found;
    INFO(found << " where " << v.text("reason") << " is expected");
    CHECK(accepted);
  });
}
