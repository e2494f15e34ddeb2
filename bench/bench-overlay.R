# Overlay, dissolving and buffers against std::sort of as many doubles as there are vertices.

# Each thread has so many to sort.
Rcpp::cppFunction("double sort_doubles(int n, int threads) {
  std::vector<std::vector<double>> values(threads, std::vector<double>(n));
  static std::uint64_t state = 88172645463325252ull;
  for (auto& some : values)
    for (double& value : some) {
      state ^= state << 13; state ^= state >> 7; state ^= state << 17;
      value = static_cast<double>(state >> 11);
    }
  const auto begin = std::chrono::steady_clock::now();
  std::vector<std::thread> others;
  for (int k = 1; k < threads; ++k) others.emplace_back([&, k] { std::sort(values[k].begin(), values[k].end()); });
  std::sort(values[0].begin(), values[0].end());
  for (auto& other : others) other.join();
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - begin).count() + (values[0][0] < 0);
}", includes = c("#include <algorithm>", "#include <chrono>", "#include <cstdint>", "#include <thread>"), plugins = "cpp11")
sorting <- function(n, threads = 1) min(vapply(1:5, function(i) sort_doubles(n, threads), 0))

source("bench/coverage.R")
vertices_in <- function(...) sum(vapply(list(...), function(x) length(civicatlas:::store_of(civicatlas:::as_shapes(x))$x), 0))

x <- coverage(100)
y <- coverage(100, 0.3)
sort_both <- sorting(vertices_in(x, y))
union <- seconds(overlay_with(x, y, "union"), 7)
report("union of two coverages of 10,000 polygons of 60 vertices, against sorting as many", sprintf("%.1f times, %.2f s", union / sort_both, union),
       "at most 8", union / sort_both <= 8)
one_thread <- withr::with_options(list(civicatlas.threads = 1L), seconds(overlay_with(x, y, "union"), 7))
report("the union on two threads against one", sprintf("%.2f times faster", one_thread / union), "at least 1.75", one_thread / union >= 1.75)
report("what two sorts beside each other gain on this machine", sprintf("%.2f times faster", 2 * sort_both / sorting(vertices_in(x, y), 2)), "none set", TRUE)
half <- coverage(50)
half_y <- coverage(50, 0.3)
quarter <- seconds(overlay_with(half, half_y, "union"), 3)
report("the union, growth from n to 4n", sprintf("exponent %.2f", exponent(quarter, union)), "at most 1.15", exponent(quarter, union) <= 1.15)

million <- coverage(130)
sort_million <- sorting(vertices_in(million))
dissolving <- seconds(dissolve_by(million, region), 3)
report("dissolving a coverage of 1 million vertices into 100 regions, against sorting as many", sprintf("%.1f times, %.2f s", dissolving / sort_million, dissolving),
       "at most 20", dissolving / sort_million <= 20)

set.seed(9)
points <- point_shapes(5e5 + 1e5 * runif(1e5), 4.7e6 + 1e5 * runif(1e5), crs = 32757)
sort_circles <- sorting(1e5 * 65)
merging <- seconds(buffer_by(points, 200, merged = TRUE), 1)
report("100,000 point buffers merged, against sorting as many doubles as they have vertices", sprintf("%.1f times, %.2f s", merging / sort_circles, merging),
       "at most 15", merging / sort_circles <= 15)

# Each point within 300 others' buffers.
stack <- point_shapes(100 * runif(1e4), 100 * runif(1e4), crs = 32757)
stacked <- seconds(buffer_by(stack, 5, merged = TRUE), 1)
report("10,000 points by 5 in 100 x 100 merged", sprintf("%.2f s", stacked), "under 3 s", stacked < 3)
few <- seconds(buffer_by(stack[1:2500], 5, merged = TRUE), 3)
report("the same, growth from 2,500 points to 10,000", sprintf("exponent %.2f", exponent(few, stacked)), "at most 1.3", exponent(few, stacked) <= 1.3)
counties <- coverage(56, spacing = 40000)
wide <- seconds(buffer_by(counties, 5000), 1)
report("buffers of 3,136 polygons of 60 vertices, 40 km wide, by 5 km", sprintf("%.2f s", wide), "under 3 s", wide < 3)

# Each crosses itself once; a row's work is too short to start a thread for.
left <- 5e5 + 1000 * runif(40000)
low <- 4.7e6 + 1000 * runif(40000)
bows <- shapes_from_wkt(sprintf("POLYGON ((%1$f %2$f, %3$f %4$f, %3$f %2$f, %1$f %4$f, %1$f %2$f))", left, low, left + 1, low + 1), crs = 32757)
repair_on <- function(threads) withr::with_options(list(civicatlas.threads = threads), seconds(repair_shapes(bows), 3))
alone <- repair_on(1L)
shared <- repair_on(2L)
report("40,000 repairs on two threads against one", sprintf("%.2f times faster", alone / shared), "above 1.3", alone / shared > 1.3)

saved <- tempfile(fileext = ".rds")
saveRDS(list(x = x, y = y), saved)
peak <- peak_memory(sprintf("layers <- readRDS('%s'); invisible(overlay_with(layers$x, layers$y, 'union'))", saved))
coordinates <- 16 * vertices_in(x, y)
report("the union, peak memory above bare R against the coordinates", sprintf("%.1f times", (peak[["with"]] - peak[["without"]]) / coordinates), "at most 12",
       (peak[["with"]] - peak[["without"]]) / coordinates <= 12)
