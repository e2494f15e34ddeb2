#!/usr/bin/env bash
# Every command once, on the demo data. usage: commands.sh FOLDER-OF-THE-DEMO-DATA (writes into the folder where it is run)
set -euo pipefail
data=$1

# Look
civicatlas describe "$data/wards.shp"
civicatlas layers "$data/cells.zip"
civicatlas formats
civicatlas head "$data/rooms.geojson" --rows 3
civicatlas sample "$data/rooms.geojson" --rows 3 --seed 4
civicatlas show "$data/rooms.geojson" --where "room_id = 'CR021'" --decimals 5
civicatlas explain "$data/rooms.geojson" "kind = 'Library' OR kind = 'school' AND seats > 100"

# In and out
civicatlas convert "$data/cells.zip" cells.gpkg --mend-numbers
civicatlas load "$data/wards.shp" "$data/rooms.geojson" "$data/heat.csv" --to store.gpkg --crs EPSG:32757 --table-prefix saltmere_
civicatlas stack "$data/rooms.geojson" "$data/rooms.geojson" twice.geojson --source-column file
civicatlas convert "$data/rooms.geojson" - --where "kind = 'library'" | civicatlas buffer - - --distance 400 --merged | civicatlas history - 
civicatlas convert - libraries.gpkg --from-format csv --to-format gpkg < <(printf 'id,lon,lat\n1,160.2,-47.4\n') --declare-crs EPSG:4326

# Rows and columns
civicatlas sort "$data/rooms.geojson" by-seats.geojson --order kind,seats --descending
civicatlas keep "$data/rooms.geojson" "seats > 100 AND kind <> 'school'" large.geojson
civicatlas drop "$data/rooms.geojson" "opens = '09:00'" early.geojson
civicatlas compute "$data/wards.shp" shares.shp --set "elderly = round(100 * over_65 / residents, 1), km2 = area('km2')"
civicatlas rename "$data/wards.shp" renamed.gpkg --columns "people=residents,elderly=over_65"
civicatlas columns "$data/wards.shp" names.shp --keep ward_id,name
civicatlas build "$data/rooms.geojson" walks.geojson --by kind --order seats
civicatlas join-table "$data/wards.shp" "$data/heat.csv" hot.gpkg --key ward_id
civicatlas rates "$data/wards.shp" rates.gpkg --counted over_65 --base residents --per 100

# CRS
civicatlas crs EPSG:32757
civicatlas crs --find "utm 57s"
civicatlas crs --suggest "$data/wards.shp" --measuring area
civicatlas reproject "$data/rooms.geojson" rooms.shp --crs EPSG:32757

# Shapes
civicatlas measure "$data/wards.shp" measured.shp --area ha --perimeter km
civicatlas buffer rooms.shp reach.shp --distance 400 --merged
civicatlas bands rooms.shp rings.gpkg --distances 200,400
civicatlas simplify "$data/wards.shp" coarse.shp --tolerance 50
civicatlas centroid "$data/wards.shp" centroids.shp
civicatlas inner-point "$data/wards.shp" points.shp
civicatlas parts "$data/wards.shp" parts.shp
civicatlas boundary "$data/wards.shp" borders.gpkg
civicatlas flatten rings.gpkg flat.gpkg
civicatlas hull rooms.shp hull.shp --merged
civicatlas dissolve cells.gpkg wards-of-cells.gpkg --by ward_id --with "cells = count(), people = sum(pop_total)"

# Two layers
civicatlas overlay "$data/wards.shp" "$data/districts.shp" pieces.gpkg --pieces union --match-crs
civicatlas clip "$data/tramways.kml" "$data/wards.shp" tramways.gpkg --match-crs
civicatlas erase "$data/wards.shp" reach.shp out-of-reach.shp
civicatlas split "$data/wards.shp" "$data/tramways.kml" split.gpkg --match-crs
civicatlas join rooms.shp "$data/wards.shp" located.shp
civicatlas nearest "$data/wards.shp" rooms.shp nearest.gpkg --distance 2000
civicatlas select rooms.shp "$data/wards.shp" offshore.shp --others
civicatlas pick "$data/wards.shp" rooms.shp largest.gpkg --take name,seats --rank-by seats
civicatlas summarise "$data/wards.shp" rooms.shp counted.gpkg --with "rooms = count(), seats = sum(seats), libraries = share(kind = 'library')" \
  --set "per_1000 = 1000 * seats / residents"
civicatlas relate "$data/wards.shp" "$data/districts.shp" --relation overlaps --match-crs | head -n 4
civicatlas distances "$data/wards.shp" rooms.shp --unit km --names ward_id --other-names room_id | head -n 3 | cut -c 1-60
civicatlas cross-table "$data/wards.shp" "$data/districts.shp" --column ward_id --other-column district --area-unit ha --match-crs | head -n 4
civicatlas flows "$data/wards.shp" "$data/trips.csv" flows.gpkg --key ward_id --with "trips = sum(trips)"

# Mend
civicatlas check "$data/wards.shp"
civicatlas repair "$data/wards.shp" valid.shp
civicatlas gaps "$data/districts.shp" gaps.gpkg --narrower-than 30
civicatlas slivers pieces.gpkg slivers.gpkg --narrower-than 30
civicatlas close-gaps "$data/districts.shp" sealed.shp --tolerance 15
civicatlas absorb pieces.gpkg whole.gpkg --narrower-than 30

civicatlas outer-ring "$data/districts.shp" outer.gpkg
civicatlas cut-at-antimeridian "$data/rooms.geojson" cut.gpkg
civicatlas measure "$data/wards.shp" - --area ha | civicatlas buffer - - --distance 10 |
  civicatlas refresh-measures - anew.gpkg
civicatlas unmatched-keys "$data/wards.shp" "$data/heat.csv" --key ward_id

# Statistics
civicatlas neighbours "$data/wards.shp"
civicatlas autocorrelation "$data/wards.shp" --fill "over_65 / residents"
civicatlas clusters "$data/wards.shp" clusters.gpkg --fill "over_65 / residents"

# Layers larger than memory, in tiles
civicatlas tile "$data/cells.zip" cells-in-tiles --rows-per-tile 500
civicatlas summarise "$data/wards.shp" cells-in-tiles cells-by-ward.gpkg --with "cells = count()"
civicatlas buffer cells-in-tiles wide-cells --distance 25

# Maps
civicatlas map counted.gpkg seats.png --fill per_1000 --points rooms.shp --outlines "$data/wards.shp" --scale-bar --dpi 100
civicatlas map "$data/wards.shp" density.png --fill "residents / area('km2')" --key-title "Residents\nper km²" --dpi 100
civicatlas classes counted.gpkg classes.png --fill per_1000 --method quantile

# The same again, in one process
cat > steps.txt <<'STEPS'
# rooms out of reach, for some distance
reproject {data}/rooms.geojson @rooms --crs EPSG:32757
buffer @rooms @reach --distance {distance} --merged
erase {data}/wards.shp @reach far.gpkg --replace
describe far.gpkg
STEPS
civicatlas batch steps.txt --check --input "data=$data,distance=400"
civicatlas batch steps.txt --input "data=$data,distance=400"
civicatlas run "$data/../workflows/out-of-reach.yaml" --folder results --check
civicatlas run "$data/../workflows/out-of-reach.yaml" --input distance=500 --folder results --write-steps

# To show and to hand on
civicatlas run "$data/../workflows/largest-room.yaml" --folder rooms --report rooms.html
civicatlas run "$data/../workflows/largest-room.yaml" --drawing steps.svg
civicatlas completions --shell bash | head -n 2
civicatlas help expressions | head -n 3
civicatlas page "$data/../workflows/out-of-reach.yaml" --no-browser --folder page-folder 2> page.txt & page=$!
for _ in $(seq 100); do grep -q "http" page.txt && break; sleep 0.2; done
kill $page
