# Makes the demo data: the made-up island city of Saltmere, near 160.2 E 47.4 S, in a hot summer.
# usage: Rscript data-raw/saltmere.R   (from the repository, with the package installed)
#
# The island is a honeycomb of jittered cells, finer towards the town, cut by noise into land and sea. Every shared edge
# is drawn once, so that wards and cells are true coverages; coastal edges are fractal.

suppressPackageStartupMessages(library(civicatlas))
set.seed(20261)

centre <- c(590500, 4749700)  # UTM zone 57S
town <- centre + c(900, -1300)
spacing <- 236

# --- the honeycomb ----------------------------------------------------------------------------------------------

rows <- -39:39
hexes <- expand.grid(i = -37:37, j = rows)
hexes$x <- centre[1] + spacing * (hexes$i + 0.5 * (hexes$j %% 2))
hexes$y <- centre[2] + spacing * hexes$j * sqrt(3) / 2

angles <- pi / 180 * (30 + 60 * 0:5)
corner_x <- outer(hexes$x, spacing / sqrt(3) * cos(angles), `+`)
corner_y <- outer(hexes$y, spacing / sqrt(3) * sin(angles), `+`)
keys <- paste(round(corner_x), round(corner_y))
corner_id <- matrix(match(keys, unique(keys)), ncol = 6)
corners <- cbind(corner_x, deparse.level = 0)[match(unique(keys), keys)]
corners <- cbind(corners, corner_y[match(unique(keys), keys)])
corners <- corners + matrix(runif(length(corners), -0.24, 0.24) * spacing, ncol = 2)

# Pulls points towards the town, which makes its cells smaller.
towards_town <- function(p) {
  offset <- sweep(p, 2, town)
  distance <- sqrt(rowSums(offset^2))
  sweep(offset * (1 - 0.5 * exp(-(distance / 2600)^2)), 2, town, `+`)
}
corners <- towards_town(corners)
middle <- cbind(rowMeans(matrix(corners[corner_id, 1], ncol = 6)), rowMeans(matrix(corners[corner_id, 2], ncol = 6)))

# --- land and sea ------------------------------------------------------------------------------------------------

waves <- data.frame(
  length = 9000 / 1.55^(0:8), angle = runif(9, 0, 2 * pi), phase = runif(9, 0, 2 * pi), across = runif(9, 0, 2 * pi)
)
noise <- function(p) {
  total <- 0
  for (k in seq_len(nrow(waves))) {
    w <- waves[k, ]
    u <- (p[, 1] - centre[1]) / w$length * 2 * pi
    v <- (p[, 2] - centre[2]) / w$length * 2 * pi
    total <- total + w$length^0.75 * sin(u * cos(w$angle) + v * sin(w$angle) + w$phase) * cos(v * cos(w$angle) - u * sin(w$angle) + w$across)
  }
  total / 900
}
offset <- sweep(middle, 2, centre)
profile <- 1 - (offset[, 1] / 7000)^2 - (offset[, 2] / 6100)^2
inlet <- exp(-((offset[, 1] + 200 + 0.25 * offset[, 2]) / 650)^2) * (offset[, 2] < -2600) +
  exp(-((offset[, 2] - 900) / 520)^2) * (offset[, 1] > 3300)
islets <- rbind(c(600, -5300), c(1500, -4700), c(-4300, 5300), c(6500, 2100), c(4900, -5900), c(-6900, -800))
islet_radius <- c(330, 260, 380, 300, 420, 300)
islet <- rowSums(mapply(function(x, y, r) exp(-((offset[, 1] - x)^2 + (offset[, 2] - y)^2) / r^2), islets[, 1], islets[, 2], islet_radius))
edge <- pmax(abs(hexes$i) / 37, abs(hexes$j) / 39) > 0.96
land <- profile + 0.55 * noise(middle) - 1.7 * inlet + 6 * islet^2 > 0.1 & !edge

edges <- data.frame(hex = rep(seq_len(nrow(hexes)), 6), from = c(corner_id), to = c(corner_id[, c(2:6, 1)]))
edges$key <- paste(pmin(edges$from, edges$to), pmax(edges$from, edges$to))
partner <- match(paste(edges$from, edges$to), paste(edges$to, edges$from))
edges$other <- edges$hex[partner]
neighbours <- split(edges$other, edges$hex)

components <- function(member) {
  label <- integer(length(member))
  for (start in which(member)) {
    if (label[start]) next
    label[start] <- max(label) + 1L
    queue <- start
    while (length(queue)) {
      near <- unique(unlist(neighbours[queue]))
      near <- near[!is.na(near) & member[near] & label[near] == 0]
      label[near] <- label[start]
      queue <- near
    }
  }
  label
}

sea <- components(!land)
land <- land | sea != sea[which(edge)[1]]  # lakes are filled
island <- components(land)
sizes <- tabulate(island)
mainland <- which.max(sizes)
far <- vapply(seq_along(sizes), function(k) min(sqrt(rowSums(sweep(middle[island == k, , drop = FALSE], 2, centre)^2))), 0)
keep <- c(mainland, utils::head(setdiff(order(far), c(mainland, which(sizes < 2))), 6))
land <- island %in% keep
message(sum(land), " cells on ", length(keep), " islands")

# --- wards -------------------------------------------------------------------------------------------------------

hex_area <- abs(rowSums(matrix(corners[corner_id, 1], ncol = 6) * matrix(corners[corner_id[, c(2:6, 1)], 2], ncol = 6) -
                          matrix(corners[corner_id[, c(2:6, 1)], 1], ncol = 6) * matrix(corners[corner_id, 2], ncol = 6))) / 2
from_town <- sqrt(rowSums(sweep(middle, 2, town)^2))
second <- sqrt(rowSums(sweep(middle, 2, centre + c(-3300, 2200))^2))
density <- 5200 * exp(-from_town / 1900) + 2300 * exp(-(second / 1300)^2) + 260  # residents per square kilometre, roughly
density <- density * exp(0.5 * noise(middle + 4000) + rnorm(nrow(middle), 0, 0.25))
density <- density * ifelse(runif(length(density)) < 0.015, 5, 1)  # tower blocks
population <- round(density * hex_area / 1e6 * 2.6)

on_mainland <- which(island == mainland)
sample_at <- sample(on_mainland, 6000, TRUE, prob = population[on_mainland]^0.75)
seeds <- stats::kmeans(middle[sample_at, ], 24, nstart = 5, iter.max = 60)$centers
seed_hex <- apply(seeds, 1, function(s) on_mainland[which.min(rowSums(sweep(middle[on_mainland, ], 2, s)^2))])

# Wards grow from their seeds over land, by distance.
ward <- integer(nrow(hexes))
cost <- rep(Inf, nrow(hexes))
cost[seed_hex] <- 0
ward[seed_hex] <- seq_along(seed_hex)
open <- seed_hex
while (length(open)) {
  at <- open[which.min(cost[open])]
  open <- setdiff(open, at)
  for (near in neighbours[[at]]) {
    if (is.na(near) || island[near] != mainland) next
    through <- cost[at] + sqrt(sum((middle[near, ] - middle[at, ])^2))
    if (through >= cost[near]) next
    cost[near] <- through
    ward[near] <- ward[at]
    open <- union(open, near)
  }
}
for (islet in setdiff(keep, mainland)) {
  here <- which(island == islet)
  gaps <- apply(middle[on_mainland, ], 1, function(p) min(rowSums(sweep(middle[here, , drop = FALSE], 2, p)^2)))
  ward[here] <- ward[on_mainland[which.min(gaps)]]
}

# A park belongs to no ward: a cell and its neighbours, deep inside a large ward.
inside <- function(h, depth) {
  ring <- h
  for (step in seq_len(depth)) ring <- unique(c(ring, unlist(neighbours[ring])))
  all(!is.na(ring)) && all(ward[ring] == ward[h])
}
candidates <- Filter(function(h) inside(h, 3), sample(on_mainland))
park_at <- candidates[which.min(abs(from_town[candidates] - 2600))]
park <- c(park_at, neighbours[[park_at]])
ward[park] <- 0L

# Numbered from north to south.
north <- tapply(middle[ward > 0, 2], ward[ward > 0], mean)
ward[ward > 0] <- match(ward[ward > 0], as.integer(names(north))[order(-north)])

# --- geometry ----------------------------------------------------------------------------------------------------

# The points of an edge between two corners, drawn from its lower to its higher corner: midpoints pushed sideways.
draw_edge <- function(a, b, depth, roughness) {
  points <- rbind(a, b)
  for (level in seq_len(depth)) {
    n <- nrow(points)
    step <- points[-1, , drop = FALSE] - points[-n, , drop = FALSE]
    push <- runif(n - 1, -roughness, roughness)
    middle <- (points[-1, , drop = FALSE] + points[-n, , drop = FALSE]) / 2 + cbind(-step[, 2], step[, 1]) * push
    merged <- matrix(0, 2 * n - 1, 2)
    merged[seq(1, 2 * n - 1, 2), ] <- points
    merged[seq(2, 2 * n - 2, 2), ] <- middle
    points <- merged
  }
  points
}

edges$ward <- ward[edges$hex]
edges$other_ward <- ifelse(is.na(edges$other), 0L, ward[edges$other])
edges <- edges[edges$ward > 0, ]
drawn <- new.env()
for (k in which(!duplicated(edges$key))) {
  ends <- as.integer(strsplit(edges$key[k], " ")[[1]])
  coast <- edges$other_ward[k] == 0
  border <- edges$other_ward[k] != edges$ward[k]
  line <- draw_edge(corners[ends[1], ], corners[ends[2], ], if (coast) 4 else if (border) 2 else 0, if (coast) 0.2 else 0.07)
  assign(edges$key[k], round(line, 2), drawn)
}

# Rings of the edges that bound a set of cells; three cells meet at a corner, so that a walk never has a choice.
trace_rings <- function(own) {
  following <- match(own$to, own$from)
  done <- logical(nrow(own))
  rings <- list()
  for (start in seq_len(nrow(own))) {
    if (done[start]) next
    pieces <- list()
    at <- start
    repeat {
      line <- get(own$key[at], drawn)
      if (own$from[at] > own$to[at]) line <- line[rev(seq_len(nrow(line))), ]
      pieces[[length(pieces) + 1]] <- line[-nrow(line), , drop = FALSE]
      done[at] <- TRUE
      at <- following[at]
      if (at == start) break
    }
    ring <- do.call(rbind, pieces)
    rings[[length(rings) + 1]] <- rbind(ring, ring[1, ])
  }
  rings
}

ring_area <- function(r) sum(r[-nrow(r), 1] * r[-1, 2] - r[-1, 1] * r[-nrow(r), 2]) / 2
ring_text <- function(r) paste0("(", paste(formatC(r[, 1], format = "f", digits = 2), formatC(r[, 2], format = "f", digits = 2), collapse = ", "), ")")

outline <- function(own) {
  rings <- trace_rings(own)
  area <- vapply(rings, ring_area, 0)
  shells <- order(-area)[seq_len(sum(area > 0))]
  texts <- vapply(rings, ring_text, "")
  holes <- texts[area < 0]  # only the largest shell has any
  parts <- paste0("(", vapply(shells, function(s) paste(c(texts[s], if (s == shells[1]) holes), collapse = ", "), ""), ")")
  if (length(parts) == 1) paste0("POLYGON ", parts) else paste0("MULTIPOLYGON (", paste(parts, collapse = ", "), ")")
}

ward_names <- c(
  "Gannet Point", "Upper Kelpside", "Lanternfield", "North Strand", "Quarry Row", "Tern Hill", "Windlass", "Brinefield",
  "Old Battery", "Saltpan", "Ropewalk", "Netloft", "Harbour Steps", "Fishgate", "Copperhouse", "Lime Kilns", "Eastmarsh",
  "Chandlers", "Bell Rock", "Lower Kelpside", "Southgate", "Mariners", "Spindrift", "Cape Lonely"
)
ward_edges <- edges[edges$other_ward != edges$ward, ]
cells_on_land <- which(ward > 0)
cell_edges <- edges[edges$hex %in% cells_on_land, ]

# Where a coast crosses itself or another, the edges nearby lose every other point until it does not.
repeat {
  ward_text <- vapply(split(ward_edges, ward_edges$ward), outline, "")
  cell_text <- vapply(split(cell_edges, cell_edges$hex), outline, "")
  bad <- check_shapes(shapes_from_wkt(ward_text))
  overlaps <- coordinates_of(find_slivers(shapes_from_wkt(cell_text), thinness = 0))
  spots <- cbind(c(bad$x[!bad$valid], overlaps$x), c(bad$y[!bad$valid], overlaps$y))
  if (!nrow(spots)) break
  for (key in ls(drawn)) {
    line <- drawn[[key]]
    near <- spots[, 1] >= min(line[, 1]) & spots[, 1] <= max(line[, 1]) & spots[, 2] >= min(line[, 2]) & spots[, 2] <= max(line[, 2])
    if (any(near) && nrow(line) > 2) assign(key, line[seq(1, nrow(line), 2), ], drawn)
  }
}
cell_hex <- as.integer(names(cell_text))

# --- attributes --------------------------------------------------------------------------------------------------

ages <- c("0-14", "15-64", "65-79", "80+")
older <- plogis(noise(middle - 7000) - 0.3)
shares <- cbind(0.19 - 0.05 * older, 0, 0.09 + 0.1 * older, 0.025 + 0.05 * older)
shares[, 2] <- 1 - rowSums(shares)
by_age <- round(population * shares)
with_commas <- function(n) formatC(n, format = "d", big.mark = ",")
blank_some <- function(text, share) ifelse(runif(length(text)) < share, "", text)

ward_of_cell <- ward[cell_hex]
residents <- tapply(rowSums(by_age[cell_hex, ]), ward_of_cell, sum)
over_65 <- tapply(rowSums(by_age[cell_hex, 3:4]), ward_of_cell, sum)

wards <- as_spatial_frame(data.frame(
  ward_id = sprintf("%02d", 1:24), name = ward_names, residents = as.integer(residents), over_65 = as.integer(over_65),
  wkt = ward_text
), wkt = "wkt", crs = 32757)

north_to_south <- order(ward_of_cell, -middle[cell_hex, 2])
serial <- integer(length(cell_hex))
serial[north_to_south] <- sequence(rle(ward_of_cell[north_to_south])$lengths)
cells <- as_spatial_frame(data.frame(
  cell_id = sprintf("%02d-%03d", ward_of_cell, serial), ward_id = sprintf("%02d", ward_of_cell),
  pop_total = blank_some(with_commas(rowSums(by_age[cell_hex, ])), 0.01),
  pop_0_14 = blank_some(with_commas(by_age[cell_hex, 1]), 0.01), pop_15_64 = blank_some(with_commas(by_age[cell_hex, 2]), 0.01),
  pop_65_79 = blank_some(with_commas(by_age[cell_hex, 3]), 0.01), pop_80_up = blank_some(with_commas(by_age[cell_hex, 4]), 0.01),
  wkt = cell_text
)[north_to_south, ], wkt = "wkt", crs = 32757)

kinds <- c(library = 26, school = 38, "church hall" = 24, "sports hall" = 18, "community house" = 22, "tram depot" = 4, museum = 4)
weight <- population[cell_hex]^0.8 * exp(-0.9 * older[cell_hex])
weight[ward_of_cell %in% c(2, 23)] <- 0  # two wards have none
at <- sample(cell_hex, 136, TRUE, prob = weight)
kind <- sample(names(kinds), 136, TRUE, prob = kinds)
place <- cbind(middle[at, 1] + runif(136, -32, 32), middle[at, 2] + runif(136, -32, 32))
offshore <- rbind(centre + c(-8900, -3300), centre + c(8300, -4300), centre + c(-500, 7100))
misplaced <- rbind(centre + c(46000, 800))  # a digit wrong in the longitude
all_places <- rbind(place, offshore, misplaced)
kind <- c(kind, "community house", "school", "library", "sports hall")
seats <- round(pmax(12, rlnorm(140, 4.1, 0.55)))
opens <- sample(c("07:00", "08:00", "09:00", "10:00"), 140, TRUE, prob = c(1, 4, 5, 2))
closes <- sample(c("17:00", "18:00", "20:00", "22:00"), 140, TRUE, prob = c(4, 5, 3, 1))
streets <- c("Anchor", "Barnacle", "Capstan", "Dory", "Ebb", "Flint", "Gull", "Halyard", "Isthmus", "Jetty", "Keel", "Lantern",
             "Mizzen", "Narrows", "Oar", "Petrel", "Quay", "Reef", "Skerry", "Tide")
street <- sample(paste(streets, rep(c("Street", "Lane", "Rise", "Wharf", "Parade", "Court", "Walk"), each = 20)), 140)
title <- paste0(toupper(substr(kind, 1, 1)), substr(kind, 2, 40))
rooms <- point_shapes(all_places[, 1], all_places[, 2], crs = 32757) |> reproject_to(4326)
rooms <- spatial_frame(
  room_id = sprintf("CR%03d", 1:140), name = paste(street, title), kind = kind, seats = as.integer(seats), opens = opens,
  closes = closes, geometry = rooms
)[sample(140), ]

heat <- data.frame(ward_id = wards$ward_id, peak_c = 0, nights_above_25 = 0L)
built <- log(residents / (area_of(wards) / 1e6))
heat$peak_c <- round(31.2 + 1.05 * (built - min(built)) + rnorm(24, 0, 0.5), 1)
heat$nights_above_25 <- as.integer(round(pmax(0, (heat$peak_c - 31) * 2.1 + rnorm(24, 0, 1))))
heat$ward_id[c(8, 19)] <- c("O8", "1 9")  # as somebody typed them

hub <- cbind(tapply(middle[cell_hex, 1], ward_of_cell, mean), tapply(middle[cell_hex, 2], ward_of_cell, mean))
trips <- expand.grid(from = 1:24, to = 1:24)
apart <- sqrt(rowSums((hub[trips$from, ] - hub[trips$to, ])^2))
trips$trips <- rpois(nrow(trips), residents[trips$from] * residents[trips$to]^0.6 / 900 * exp(-apart / 2500))
trips <- trips[trips$from != trips$to & trips$trips > 20, ]
trips$from <- sprintf("%02d", trips$from)
trips$to <- sprintf("%02d", trips$to)

# --- tramways ----------------------------------------------------------------------------------------------------

# Lines along chains of cells from the town to outlying wards, in pieces with gaps where works are under way.
path_between <- function(from, to) {
  before <- integer(nrow(hexes))
  before[from] <- from
  front <- from
  while (before[to] == 0 && length(front)) {
    fresh <- integer()
    for (at in front) {
      for (near in stats::na.omit(neighbours[[at]])) {
        if (before[near] != 0 || !land[near]) next
        before[near] <- at
        fresh <- c(fresh, near)
      }
    }
    front <- fresh
  }
  path <- to
  while (path[1] != from) path <- c(before[path[1]], path)
  path
}

smoothed <- function(points) {
  for (pass in 1:3) {
    inner <- seq(2, nrow(points) - 1)
    points[inner, ] <- (points[inner - 1, ] + 2 * points[inner, ] + points[inner + 1, ]) / 4
  }
  round(points, 1)
}

town_cell <- on_mainland[which.min(from_town[on_mainland])]
ends <- vapply(c(1, 7, 12, 17, 24), function(w) which(ward == w)[which.min(abs(from_town[ward == w] - stats::median(from_town[ward == w])))], 0L)
tram_names <- c("Lighthouse Line", "Ridge Line", "Strand Line", "Quarry Line", "Cape Line")
tram_text <- list()
for (line in seq_along(ends)) {
  points <- smoothed(middle[path_between(town_cell, ends[line]), ])
  cuts <- unique(round(seq(1, nrow(points), length.out = sample(3:5, 1))))
  for (piece in seq_len(length(cuts) - 1)) {
    part <- points[cuts[piece]:cuts[piece + 1], , drop = FALSE]
    if (piece > 1) part[1, ] <- part[1, ] + (part[2, ] - part[1, ]) * 0.35  # the gap
    tram_text[[length(tram_text) + 1]] <- list(line = tram_names[line], section = piece, text = paste0("LINESTRING ", ring_text(part)))
  }
}
tramways <- spatial_frame(
  name = vapply(tram_text, `[[`, "", "line"), section = vapply(tram_text, `[[`, 0L, "section"),
  opened = 1896L + 7L * seq_along(tram_text), geometry = shapes_from_wkt(vapply(tram_text, `[[`, "", "text"), crs = 32757)
)

# --- canopy ------------------------------------------------------------------------------------------------------

species <- data.frame(
  code = c("STP", "WHK", "GRB", "CPL"), common = c("salt pine", "white hakeberry", "grey bough", "cape laurel"),
  deciduous = c(FALSE, TRUE, TRUE, FALSE), shade_percent = c(62, 81, 74, 88)
)
tree_at <- rbind(
  middle[sample(park, 120, TRUE), ] + matrix(runif(240, -34, 34), ncol = 2),
  middle[sample(cells_on_land, 160, TRUE, prob = 1 / (400 + from_town[cells_on_land])), ] + matrix(runif(320, -30, 30), ncol = 2)
)
crown <- function(x, y, radius) {
  angle <- sort(runif(9, 0, 2 * pi))
  r <- radius * runif(9, 0.75, 1.15)
  points <- cbind(x + r * cos(angle), y + r * sin(angle))
  paste0("POLYGON (", ring_text(rbind(points, points[1, ])), ")")
}
height <- round(rgamma(nrow(tree_at), 6, 0.6), 1)
canopy <- spatial_frame(
  tree_id = sprintf("T%04d", seq_len(nrow(tree_at))), species = sample(species$code, nrow(tree_at), TRUE, prob = c(4, 3, 2, 1)), height_m = height,
  healthy = runif(nrow(tree_at)) > 0.12, surveyed = as.Date("2026-02-01") + sample(0:40, nrow(tree_at), TRUE),
  geometry = shapes_from_wkt(mapply(crown, tree_at[, 1], tree_at[, 2], 1.5 + height / 3), crs = 32757)
)

# --- files -------------------------------------------------------------------------------------------------------

out <- "inst/extdata"
dir.create(out, FALSE, TRUE)
unlink(file.path(out, "*"))
write_layer(wards, file.path(out, "wards.shp"), replace = TRUE)
write_layer(cells, file.path(out, "cells.zip"), replace = TRUE)
write_layer(rooms, file.path(out, "rooms.geojson"), replace = TRUE, decimals = 6)
utils::write.csv(heat, file.path(out, "heat.csv"), row.names = FALSE)
utils::write.csv(trips, file.path(out, "trips.csv"), row.names = FALSE)
write_layer(tramways, file.path(out, "tramways.kml"), decimals = 6)
write_layer(canopy, file.path(out, "canopy.gpkg"), layer = "trees")
write_layer(species, file.path(out, "canopy.gpkg"), layer = "species")
