# Layers in tiles on the command line.

register_operation("tile", function() {
  new_operation("In and out", "put a layer that may be larger than memory into a folder of tiles", c("SOURCE", "FOLDER"), list(
    new_option("rows-per-tile", "whole", "rows of each tile", 1000000L), new_option("layer", "text", "layer, where the source holds several"),
    new_option("declare-crs", "crs", "CRS of the coordinates, over what the source says", former = "crs"),
    new_option("encoding", "text", "encoding of text, over what the source says"),
    new_option("replace", "flag", "replace a folder of tiles that is there"), new_option("skip-damaged", "flag", "leave out what cannot be read, and list it"),
    new_option("memory", "number", "bytes that sorting may take, roughly", 1e9)
  ), "civicatlas tile cells.zip cells-in-tiles --rows-per-tile 500", function(o) {
    tiled <- tile_up(o$source, o$folder, o$rows_per_tile, layer = o$layer, crs = o$declare_crs, encoding = o$encoding, replace = o$replace,
                     damaged = if (o$skip_damaged) "skip" else "refuse", memory = o$memory)
    if (!o$json) cat(format(tiled), sep = "\n")
    crs <- if (is_spatial_frame(tiled$prototype)) crs_data(crs_of(tiled))
    structure(list(folder = o$folder, rows = rows_in(tiled$source), tiles = tiles_in(tiled$source), crs = crs), class = "shown_already")
  }, says = c(tile_up = ""),
  about = "put a layer that may be larger than memory into a folder of tiles: GeoParquet files on which other commands work one by one, or with --daemons")
})
