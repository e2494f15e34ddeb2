# Three hosts in network namespaces of this machine, which reach it over TLS alone and see no folder of it: in the middle of a run one is killed and one
# is cut off. The result must be that of one process. As root, with iproute2.
# usage: Rscript tests/chaos/hosts.R [tiles]
suppressMessages(library(civicatlas))
options(civicatlas.quiet = TRUE, civicatlas.no_shared_folder = TRUE)
tiles <- as.integer(c(commandArgs(TRUE), "60")[1])
hosts <- c("civic1", "civic2", "civic3")

ip <- function(...) if (system2("ip", c(...)) != 0) stop("ip ", paste(..., collapse = " "), " failed")
clean <- function() {
  for (host in hosts) system2("ip", c("netns", "del", host), stderr = FALSE)
  system2("ip", c("link", "del", "civic0"), stderr = FALSE)
}

clean()
ip("link", "add", "civic0", "type", "bridge")
ip("addr", "add", "10.77.0.1/24", "dev", "civic0")
ip("link", "set", "civic0", "up")
for (i in seq_along(hosts)) {
  outside <- paste0("civic0-", i)
  ip("netns", "add", hosts[i])
  ip("link", "add", outside, "type", "veth", "peer", "name", "inside", "netns", hosts[i])
  ip("link", "set", outside, "master", "civic0", "up")
  ip("-n", hosts[i], "addr", "add", paste0("10.77.0.1", i, "/24"), "dev", "inside")
  ip("-n", hosts[i], "link", "set", "inside", "up")
}

set.seed(4)
n <- 20000
x <- spatial_frame(id = seq_len(n), geometry = point_shapes(stats::runif(n, 3e6, 4e6), stats::runif(n, 2e6, 3e6), 3035))
layer <- buffer_by(tile_up(x, tempfile("layer"), rows_per_tile = ceiling(n / tiles)), 5000, segments = 64)
alone <- run_tiles(layer)

mirai::daemons(url = "tls+tcp://10.77.0.1:5577", dispatcher = TRUE)
command <- mirai::launch_remote(1)[1]
started <- lapply(hosts, function(host) processx::process$new("ip", c("netns", "exec", host, "sh", "-c", command), supervise = TRUE))
while (mirai::status()$connections < length(hosts)) Sys.sleep(0.1)
cat("hosts connected over TLS:", mirai::status()$connections, "\n")

breaker <- processx::process$new("sh", c("-c", sprintf(
  "sleep 2; kill -KILL $(ip netns pids %s); echo killed a host; sleep 2; ip link set civic0-2 down; echo cut a host off", hosts[1])), stdout = "|")
took <- system.time(found <- run_tiles(layer))[["elapsed"]]
breaker$wait()
cat(breaker$read_all_output_lines(), sep = "\n")
same <- identical(wkb_of(found), wkb_of(alone)) && identical(found$id, alone$id)
cat(sprintf("%d tiles in %.1f s; the result is %s\n", tiles, took, if (same) "the same" else "ANOTHER"))
mirai::daemons(0)
clean()
quit(status = !same)
