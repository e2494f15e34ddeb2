# Layers in tiles on the command line.

register_command("tile", function() {
  new_command("In and out", "put a layer that may be larger than memory into a folder of tiles", c("SOURCE", "FOLDER"), list(
    new_option("rows-per-tile", "whole", "rows of each tile", 1000000L), new_option("layer", "text", "layer, where the source holds several"),
    new_option("crs", "crs", "CRS of the coordinates, over what the source says"),
    new_option("encoding", "text", "encoding of text, over what the source says"),
    new_option("replace", "flag", "replace a folder of tiles that is there"), new_option("skip-damaged", "flag", "leave out what cannot be read, and list it"),
    new_option("memory", "number", "bytes that sorting may take, roughly", 1e9)
  ), "civicatlas tile cells.zip cells-in-tiles --rows-per-tile 500", function(o) {
    tiled <- tile_up(o$source, o$folder, o$rows_per_tile, layer = o$layer, crs = o$crs, encoding = o$encoding, replace = o$replace,
                     damaged = if (o$skip_damaged) "skip" else "refuse", memory = o$memory)
    if (!o$json) cat(format(tiled), sep = "\n")
    crs <- if (is_spatial_frame(tiled$prototype)) crs_data(crs_of(tiled))
    structure(list(folder = o$folder, rows = rows_in(tiled$source), tiles = tiles_in(tiled$source), crs = crs), class = "shown_already")
  }, about = "put a layer that may be larger than memory into a folder of tiles: GeoParquet files on which other commands work one by one, or with --daemons")
})

# Those that work tile by tile; for others a tiled layer is read into memory.
commands_on_tiles <- c("reproject", "measure", "buffer", "centroid", "inner-point", "boundary", "hull", "dissolve", "repair", "overlay", "clip", "erase",
                       "join", "nearest", "select", "pick", "summarise", "keep", "drop", "compute", "rename", "columns", "join-table", "cross-table", "flows",
                       "convert", "head")

# A layer as a command can have it.
for_command <- function(layer, command) {
  if (!is_tiled(layer) || command %in% commands_on_tiles) return(layer)
  say("{.code {command}} works in memory: all {counted(rows_in(layer$source), 'row')} of the tiles are read.")
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
