# Runs every benchmark in a fresh R process, from the package's root.

for (file in setdiff(sort(list.files("bench", "[.]R$", full.names = TRUE)), c("bench/common.R", "bench/run-all.R"))) {
  status <- system2(file.path(R.home("bin"), "Rscript"), file)
  if (status != 0L) stop(file, " failed", call. = FALSE)
}
