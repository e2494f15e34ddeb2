# Summaries over tiles in two steps. A part holds what its tile adds to each cell: sums and counts where the summaries are of those alone, else the
# values that they ask for, row by row. Cells are numbered in the tile; merging gives each its number among all.

# What lies in `n` cells of a tile, as summaries_by_cell() takes it, for summaries that were asked for.
part_of_summaries <- function(assigned, n, summaries) {
  plain <- lapply(summaries, plain_summary, assigned$columns)
  if (!any(vapply(plain, is.null, NA))) return(list(counts = tabulate(assigned$cell, n), sums = lapply(plain, sums_of_cells, assigned, n)))
  used <- intersect(names(assigned$columns), unique(unlist(lapply(summaries, function(summary) all.names(rlang::quo_get_expr(summary))))))
  if (any(vapply(summaries, names_all_columns, NA))) used <- setdiff(names(assigned$columns), names(assigned$columns)[vapply(assigned$columns, is_shapes, NA)])
  list(values = vctrs::vec_slice(assigned$columns[used], assigned$rows), cell = assigned$cell)
}

# across() and its like choose columns in ways of their own.
names_all_columns <- function(summary) any(c("across", ".data", "pick", "everything", "where", "cur_data") %in% all.names(rlang::quo_get_expr(summary)))

# The sum and count of a column in each cell, with what summary_of_sums() asks of the column.
sums_of_cells <- function(summary, assigned, n) {
  if (summary$verb == "n") return(list(verb = "n"))
  found <- core(core_grouped_sums(as.double(summary$column), assigned$rows, assigned$cell, n, summary$skip))
  list(verb = summary$verb, column = summary$column[0], skip = summary$skip, sum = found$sum, count = found$count)
}

# The table of summaries of all cells. `cells` gives for each part the number of each of its cells among the `n`.
merge_summaries <- function(parts, cells, n, summaries, call) {
  if (all(vapply(parts, function(part) !is.null(part$counts), NA))) return(merge_sums(parts, cells, n, summaries))
  values <- vctrs::vec_rbind(!!!lapply(parts, `[[`, "values"))
  cell <- unlist(Map(function(part, numbers) numbers[part$cell], parts, cells))
  summaries_by_cell(list(columns = values, rows = seq_len(nrow(values)), cell = as.integer(cell)), n, summaries, call)
}

merge_sums <- function(parts, cells, n, summaries) {
  added <- function(pick) {
    out <- double(n)
    for (i in seq_along(parts)) out[cells[[i]]] <- out[cells[[i]]] + pick(parts[[i]])
    out
  }
  table <- lapply(seq_along(summaries), function(j) {
    about <- if (length(parts)) parts[[1]]$sums[[j]]
    if (is.null(about) || about$verb == "n") return(as.integer(added(function(part) part$counts)))
    summary_of_sums(about, list(sum = added(function(part) part$sums[[j]]$sum), count = added(function(part) part$sums[[j]]$count)))
  })
  tibble::new_tibble(stats::setNames(table, names(summaries)), nrow = n)
}

# --- summarise_into() ----------------------------------------------------------------------------------------------------

part_of_regions <- function(features, args) {
  args$.features <- features
  asked <- settled_summarise(args, NULL)
  shapes <- shapes_to_summarise(asked)
  regions <- length(shapes$regions)
  quick <- sums_in_regions(shapes, asked)
  if (!is.null(quick)) return(quick)
  assigned <- assigned_to_regions(shapes, asked, NULL)
  pairs <- assigned$pairs
  part <- part_of_summaries(assigned, regions * asked$groups$n, asked$summaries)
  part$keys <- asked$groups$keys
  part$once <- if (length(asked$once)) list(values = vctrs::vec_slice(asked$columns[asked$once], pairs$y), region = pairs$x)
  part$filled <- tabulate(pairs$x, regions)
  part$occurrences <- if (asked$share == "none") list(none = pairs$occurrences$none, once = pairs$occurrences$once, several = length(pairs$occurrences$several))
  part$touching <- pairs$touching
  part$shares <- if (asked$share != "none") pairs[c("within", "whole", "slack")]
  part$overlapping <- pairs$overlapping
  part$moved <- pairs$moved
  part
}

# Counts, sums and means of points as sums_at_once() has them; NULL where it has none.
sums_in_regions <- function(shapes, asked) {
  found <- sums_at_once(shapes, asked, NULL)
  if (is.null(found)) return(NULL)
  pairs <- found$pairs
  list(counts = found$counts, sums = found$sums, filled = found$counts, overlapping = pairs$overlapping, moved = pairs$moved,
       occurrences = utils::modifyList(pairs$occurrences, list(several = length(pairs$occurrences$several))))
}

merge_regions <- function(parts, args, before) {
  args$.features <- before
  asked <- settled_summarise(args, NULL)
  regions <- asked$regions
  n <- nrow(regions)
  keys <- lapply(parts, `[[`, "keys")
  groups <- if (length(asked$by)) groups_of(vctrs::vec_rbind(!!!c(list(asked$columns[0, asked$by]), keys))) else groups_of(NULL)
  cells <- lapply(keys, function(own) {
    if (!length(asked$by)) return(seq_len(n))
    match <- vctrs::vec_match(own, groups$keys)
    as.vector(outer(match, (seq_len(n) - 1L) * groups$n, `+`))
  })
  table <- merge_summaries(parts, cells, n * groups$n, asked$summaries, NULL)
  once_values <- if (length(asked$once)) merged_once(parts, asked, n)
  out <- with_summaries(regions, once_values, table, groups, asked$form)
  tell_merged_regions(parts, asked)
  attr(out, "history") <- list()
  out
}

merged_once <- function(parts, asked, n, what = "region") {
  values <- vctrs::vec_rbind(!!!lapply(parts, function(part) part$once$values))
  region <- unlist(lapply(parts, function(part) part$once$region))
  order <- order(region)
  values_once(values, list(x = region[order], y = order), n, NULL, what)
}

tell_merged_regions <- function(parts, asked) {
  filled <- Reduce(`+`, lapply(parts, `[[`, "filled"), double(nrow(asked$regions))) > 0
  counts <- if (asked$share == "none") {
    total <- function(values) sum(as.double(unlist(values)))
    of_occurrences <- function(name) total(lapply(parts, function(part) part$occurrences[[name]]))
    account_of_occurrences(of_occurrences("once"), of_occurrences("several"), of_occurrences("none"), total(lapply(parts, `[[`, "moved")),
                           total(lapply(parts, `[[`, "touching")))
  } else {
    all <- list(within = unlist(lapply(parts, function(part) part$shares$within)), whole = unlist(lapply(parts, function(part) part$shares$whole)),
                slack = parts[[1]]$shares$slack)
    account_of_shares(all, asked$share)
  }
  if (asked$share != "none") warn_of_no_size(all, asked$share)
  say_account("summarise_into", paste("features into", counted(nrow(asked$regions), "region")), c(counts, account(empty_regions(filled))))
  overlapping <- unique(unlist(lapply(parts, `[[`, "overlapping")))
  warn_if_overlapping(list(overlapping = overlapping, within = 0, slack = 0), asked$regions, "none", NULL)
}

register_tiled_verb("summarise_into", function(args, slot) {
  if (slot == ".regions") not_by_tile("regions in tiles would be summed one tile at a time; let the regions be a frame")
  list(kind = "whole", part = part_of_regions, merge = merge_regions)
}, layers = c(".features", ".regions"), masked = c("...", ".by", ".once", ".intensive"))

# --- pick_where() --------------------------------------------------------------------------------------------------------

# Of each row of the frame the best of a tile's rows: its key, what is taken of it, and how many share the key.
part_of_picks <- function(y, args) {
  args$y <- y
  asked <- settled_pick(args, NULL)
  pairs <- find_pairs(as_shapes(asked$x), as_shapes(asked$y), asked$relation, asked$distance, asked$unit, call = NULL)
  key <- asked$key
  best <- one_partner(pairs, key[pairs$y])
  same <- key[pairs$y] == key[best$y][match(pairs$x, best$x)]
  list(x = best$x, key = key[best$y], taken = vctrs::vec_slice(asked$taken, best$y), shared = tabulate(pairs$x[same %in% TRUE], nrow(asked$x))[best$x])
}

# The first of the best, in the order of the tiles.
merge_picks <- function(parts, args, before) {
  args$y <- before
  asked <- settled_pick(args, NULL)
  x <- unlist(lapply(parts, `[[`, "x"))
  key <- unlist(lapply(parts, `[[`, "key"))
  shared <- unlist(lapply(parts, `[[`, "shared"))
  taken <- vctrs::vec_rbind(asked$taken[0, ], !!!lapply(parts, `[[`, "taken"))
  order <- order(x, key, seq_along(x), method = "radix")
  first <- order[!duplicated(x[order])]
  at <- rep(NA_integer_, nrow(asked$x))
  at[x[first]] <- first
  out <- add_columns(asked$x, vctrs::vec_slice(taken, at), asked$suffix)
  alike <- which(key == key[at[x]])
  tied <- sum(rowsum_of(shared[alike], x[alike], nrow(asked$x)) > 1)
  unranked <- sum(is.na(key[first]))
  say_account("pick_where", counted(nrow(asked$x), "row"), account_of_picks(length(first), at, tied, unranked))
  attr(out, "history") <- list()
  out
}

register_tiled_verb("pick_where", function(args, slot) {
  if (slot == "x") not_by_tile("rows are picked for a frame, which may have as many rows as memory holds, from features in tiles")
  far <- far_apart(args)
  not_by_tile(far)
  list(kind = "whole", part = part_of_picks, merge = merge_picks)
}, layers = c("y", "x"), masked = c("take", "rank_by"))

# --- flows_between() -----------------------------------------------------------------------------------------------------

part_of_flows <- function(flows, args) {
  args$.flows <- flows
  asked <- settled_flows(args, NULL)
  assigned <- flows_in_cells(asked, NULL)
  list(sums = part_of_summaries(assigned, length(assigned$cells), asked$summaries), cells = assigned$cells, rows = nrow(flows), known = length(assigned$rows))
}

merge_flows <- function(parts, args, before) {
  args$.flows <- before
  asked <- settled_flows(args, NULL)
  cells <- sort(unique(as.double(unlist(lapply(parts, `[[`, "cells")))))
  numbers <- lapply(parts, function(part) match(part$cells, cells))
  table <- merge_summaries(lapply(parts, `[[`, "sums"), numbers, length(cells), asked$summaries, NULL)
  total <- function(name) sum(vapply(parts, `[[`, 0, name))
  say_account("flows_between", paste0(counted(total("rows"), "row"), ", ", counted(length(cells), "pair")),
              account_of_flows(asked, cells, total("rows") - total("known")))
  frame_of_flows(asked, cells, table, NULL)
}

register_tiled_verb("flows_between", function(args, slot) {
  list(kind = "whole", part = part_of_flows, merge = merge_flows)
}, layers = ".flows", masked = c("...", ".from", ".to", ".key", ".group"))

# --- cross_table() -------------------------------------------------------------------------------------------------------

part_of_cross_table <- function(x, args) {
  if (is_tiled(args$y)) args$y <- rows_near(args$y$source, as_shapes(x), 0)
  rlang::inject(cross_table(x, !!!args[names(args) != "x"]))
}

merge_cross_tables <- function(parts, args, before) {
  if (!length(parts)) parts <- list(part_of_cross_table(before, args))
  areas_of_pairs(vctrs::vec_rbind(!!!parts))
}

register_tiled_verb("cross_table", function(args, slot) {
  if (slot == "y") not_by_tile("what of x lies in nothing of y is known of all tiles together; let x be in tiles too")
  list(kind = "whole", part = part_of_cross_table, merge = merge_cross_tables)
}, layers = c("x", "y"), masked = c("x_column", "y_column"))
