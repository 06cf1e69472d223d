# Style of all R code and vignettes, the files shared among the cores: prints what is found, and
# ends with status 1 if anything is.

files <- list.files(
  c("R", "tests", "vignettes", "inst", "exec", "tools", "data-raw", "bench"), "[.](R|Rmd)$",
  recursive = TRUE, full.names = TRUE
)
found <- parallel::mclapply(files, lintr::lint,
  mc.cores = max(1L, parallel::detectCores(), na.rm = TRUE), mc.preschedule = FALSE
)
broken <- vapply(found, inherits, NA, what = "try-error")
if (any(broken)) stop("not looked at: ", paste(files[broken], collapse = ", "))
for (one in found) print(one)
quit(status = as.integer(sum(lengths(found)) > 0L))
