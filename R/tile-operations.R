# Operations on layers in tiles.

# A layer as an operation can have it, with such options.
for_operation <- function(layer, record, values) {
  if (!is_tiled(layer) || works_on_tiles(record, values)) return(layer)
  say("{.code {record$name}} works in memory: all {counted(rows_in(layer$source), 'row')} of the tiles are read.")
  collect_tiles(layer)
}

# What a command gave, run where steps of all rows make a frame of it.
run_if_whole <- function(result) if (is_tiled(result) && has_whole(result$steps)) collect_tiles(result) else result

# Work with so many daemons on this machine, which end with it.
with_daemons <- function(count, work) {
  if (is.null(count)) return(work)
  need_count(count, NULL, "daemons")
  need_package("mirai", "Work on several daemons", NULL)
  mirai::daemons(count)
  on.exit(mirai::daemons(0))
  force(work)
}
