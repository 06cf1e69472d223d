# Seeds: every random act has its own seed, derived from the master seed and a
# key that says what is being done, so that nothing depends on order.

# A 31-bit whole number from (master seed, key).
derive_seed <- function(master, key) {
  digest <- hash_text(paste(canonical_number(master), key, sep = "|"))
  strtoi(substr(digest, 1L, 7L), 16L) * 8L + strtoi(substr(digest, 8L, 8L), 16L) %/% 2L
}

# Runs `expr` under the seed with the RNG kinds named outright; the caller's RNG
# state and kinds are as before afterwards, also after an error.
with_seed <- function(seed, expr) {
  restore <- remember_rng()
  on.exit(restore(), add = TRUE)
  suppressWarnings(RNGkind("Mersenne-Twister", "Inversion", "Rejection"))
  set.seed(seed)
  expr
}

# Runs `expr` so that whatever it draws leaves the caller's RNG untouched.
without_rng_trace <- function(expr) {
  restore <- remember_rng()
  on.exit(restore(), add = TRUE)
  expr
}

remember_rng <- function() {
  had_seed <- exists(".Random.seed", envir = globalenv(), inherits = FALSE)
  seed <- if (had_seed) get(".Random.seed", envir = globalenv(), inherits = FALSE)
  kinds <- RNGkind()
  function() {
    suppressWarnings(RNGkind(kinds[1], kinds[2], kinds[3]))
    if (had_seed) {
      assign(".Random.seed", seed, envir = globalenv())
    } else if (exists(".Random.seed", envir = globalenv(), inherits = FALSE)) {
      rm(".Random.seed", envir = globalenv())
    }
  }
}

# A seed nobody gave: drawn from the clock and the process, never from the
# caller's RNG.
draw_seed <- function() {
  derive_seed(as.numeric(Sys.time()) * 1e6, paste("drawn", Sys.getpid()))
}
