# Dissolving over tiles: each tile's groups are dissolved by themselves, and what they give of one group is dissolved again, two tiles at a time, so that
# no more borders are in memory than lie between what is joined.

part_of_dissolve <- function(x, args) {
  args$.x <- x
  asked <- settled_dissolve(args, NULL)
  groups <- asked$groups
  found <- core(core_dissolve(handles_of(asked$shapes), store_of(asked$shapes), groups))
  assigned <- list(columns = asked$columns, rows = seq_len(nrow(x)), cell = groups)
  part <- if (length(asked$summaries)) part_of_summaries(assigned, asked$count, asked$summaries)
  part$once <- if (length(asked$once)) list(values = asked$once, region = groups)
  list(keys = asked$keys, shapes = shapes_of_rows(found, asked$count, crs_of(asked$shapes)), part = part, deep = sum(are_deep(asked$shapes)))
}

merge_dissolve <- function(parts, args, before) {
  args$.x <- before
  asked <- settled_dissolve(args, NULL)
  all <- vctrs::vec_rbind(asked$keys[0, ], !!!lapply(parts, `[[`, "keys"))
  keys <- if (length(asked$keys)) vctrs::vec_unique(all) else all[seq_len(min(1, length(parts))), ]
  n <- nrow(keys)
  cells <- lapply(parts, function(part) if (length(asked$keys)) vctrs::vec_match(part$keys, keys) else rep(1L, length(part$shapes)))
  made <- dissolve_upward(Map(function(part, cell) list(shapes = part$shapes, group = cell), parts, cells))
  shapes <- new_shapes(rep(NA_integer_, n), crs = crs_of(before))
  if (length(made$group)) shapes <- made$shapes[match(seq_len(n), made$group)]
  table <- keys
  summed <- lapply(parts, `[[`, "part")
  if (length(asked$summaries)) table <- replace_columns(table, merge_summaries(summed, cells, n, asked$summaries, NULL))
  if (length(asked$once)) {
    moved <- Map(function(part, cell) list(once = list(values = part$once$values, region = cell[part$once$region])), summed, cells)
    table <- replace_columns(table, merged_once(moved, asked, n, "group"))
  }
  tell_depth_lost(sum(vapply(parts, `[[`, 0, "deep")))
  out <- frame_of_columns(!!!as.list(table), !!shape_column_name(before) := shapes)
  say("{.fn dissolve_by}: {format_count(nrow(out))} out of {counted(length(parts), 'tile')}.")
  out
}

# Neighbouring tiles first, as they lie beside each other along the curve; a list of `shapes` and the `group` of each.
dissolve_upward <- function(parts) {
  while (length(parts) > 1) {
    pairs <- split(parts, ceiling(seq_along(parts) / 2))
    parts <- lapply(unname(pairs), function(pair) if (length(pair) == 1) pair[[1]] else dissolve_pair(pair[[1]], pair[[2]]))
  }
  if (length(parts)) parts[[1]] else list(group = integer())
}

# Groups that both have are dissolved; the others stay as they are.
dissolve_pair <- function(a, b) {
  both <- intersect(a$group, b$group)
  if (!length(both)) return(list(shapes = vctrs::vec_c(a$shapes, b$shapes), group = c(a$group, b$group)))
  apart <- list(a = !a$group %in% both, b = !b$group %in% both)
  together <- vctrs::vec_c(a$shapes[!apart$a], b$shapes[!apart$b])
  group <- match(c(a$group[!apart$a], b$group[!apart$b]), both)
  found <- core(core_dissolve(handles_of(together), store_of(together), group))
  joined <- shapes_of_rows(found, length(both), crs_of(together))
  list(shapes = vctrs::vec_c(a$shapes[apart$a], b$shapes[apart$b], joined), group = c(a$group[apart$a], b$group[apart$b], both))
}

register_tiled_verb("dissolve_by", function(args, slot) {
  list(kind = "whole", part = part_of_dissolve, merge = merge_dissolve)
}, layers = ".x", masked = c("...", ".once"))

# --- merged buffers and bands --------------------------------------------------------------------------------------------

part_of_buffers <- function(x, args) {
  args$x <- x
  list(shapes = as_shapes(quietly(rlang::inject(buffer_by(!!!args)))), group = 1L)
}

merge_buffers <- function(parts, args, before) {
  if (!length(parts)) parts <- list(part_of_buffers(before, args))
  single_shape(before, dissolve_upward(parts)$shapes)
}

register_tiled_verb("buffer_by", function(args, slot) {
  if (isTRUE(args$merged)) list(kind = "whole", part = part_of_buffers, merge = merge_buffers) else list(kind = "rows", changes = TRUE)
}, masked = "distance")

part_of_bands <- function(x, args) {
  style <- buffer_style("round", "round", args$segments %||% 16, "both", NULL)
  reach <- reach_of_bands(as_shapes(x), args$distances, args$unit, style, NULL)
  lapply(reach, function(shape) if (!is.null(shape)) list(shapes = shape, group = 1L))
}

merge_bands <- function(parts, args, before) {
  if (!length(parts)) parts <- list(part_of_bands(before, args))
  reach <- lapply(seq_along(parts[[1]]), function(i) {
    some <- Filter(Negate(is.null), lapply(parts, `[[`, i))
    if (length(some)) dissolve_upward(some)$shapes
  })
  frame_of_bands(reach, args$distances, args$within, NULL)
}

register_tiled_verb("bands_around", function(args, slot) list(kind = "whole", part = part_of_bands, merge = merge_bands))
