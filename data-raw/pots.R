# Makes inst/extdata/pots.csv.gz, the made-up firing ledger. Run from the package's
# root: Rscript data-raw/pots.R

suppressWarnings(RNGkind("Mersenne-Twister", "Inversion", "Rejection"))
set.seed(20310517)

n_firings <- 120
firing_of <- function(values, sizes) rep(values, sizes)
standardise <- function(x) (x - mean(x)) / sd(x)
pick <- function(n, shares) sample(names(shares), n, replace = TRUE, prob = shares)

# Firings -------------------------------------------------------------------
sizes <- pmin(pmax(rpois(n_firings, 13.4), 5), 22)
firing <- data.frame(
  firing_id = sprintf("F%03d", seq_len(n_firings)),
  fired_on = as.Date("2031-01-09") + sort(sample(0:1090, n_firings)),
  kiln = pick(n_firings, c(north = 0.5, south = 0.38, test = 0.12)),
  ramp_c_per_h = round(runif(n_firings, 55, 210)),
  peak_c = round(rnorm(n_firings, 1225, 24)),
  soak_min = sample(seq(5, 60, 5), n_firings, replace = TRUE),
  cool_c_per_h = round(runif(n_firings, 40, 160)),
  luck = rnorm(n_firings, 0, 0.75)
)
pots <- firing[rep(seq_len(n_firings), sizes), ]
n <- nrow(pots)

# Pots ----------------------------------------------------------------------
pots$clay_body <- pick(n, c(
  stoneware = 0.34, porcelain = 0.17, raku = 0.12, terracotta = 0.14,
  "buff grogged" = 0.13, "black mountain" = 0.06, "paper clay" = 0.03,
  "wild clay" = 0.01
))
glazes <- c(
  "celadon", "tenmoku", "shino", "ash", "chun", "oribe", "matt white", "clear",
  "iron red", "cobalt", "rutile", "copper", "crawl"
)
pots$glaze <- pick(n, setNames(c(15, 13, 11, 10, 9, 8, 8, 7, 5, 5, 4, 3, 1), glazes))
shelves <- c("bottom", "lower", "middle", "upper", "top")
pots$shelf <- pick(n, setNames(c(0.15, 0.22, 0.26, 0.22, 0.15), shelves))
pots$wall_mm <- round(rgamma(n, 16, 16 / 7.2), 1)
pots$foot_mm <- round(rnorm(n, 78, 17))
pots$height_mm <- round(rgamma(n, 7, 7 / 165))
pots$weight_g <- round(exp(0.9 * log(pots$height_mm) + 0.7 * log(pots$wall_mm) +
  rnorm(n, 0.75, 0.25)))
pots$humidity_pct <- round(pmin(
  pmax(rnorm(n, 58, 13) + 8 * cos(2 * pi * as.numeric(format(pots$fired_on, "%j")) / 365), 18),
  97
))
pots$drying_days <- pmax(1, rpois(n, 9) + sample(-2:4, n, replace = TRUE))
pots$cone_batch <- sample(100:999, n, replace = TRUE)
pots$shelf_age_weeks <- rpois(n, 40)

# Truth ---------------------------------------------------------------------
dampness <- standardise(pots$humidity_pct) - standardise(pots$drying_days)
thick_fast <- standardise(pots$wall_mm) * standardise(pots$ramp_c_per_h)
body_risk <- c(
  stoneware = -0.2, porcelain = 0.5, raku = -0.6, terracotta = 0.1,
  "buff grogged" = -0.7, "black mountain" = 0.2, "paper clay" = -1, "wild clay" = 1.4
)
glaze_risk <- setNames(c(0, 0.1, -0.3, 0.2, 0.5, 0, -0.1, 0, 0.3, 0, 0.2, 0.4, 1.2), glazes)
damp_note <- runif(n) < plogis(1.4 * dampness - 2)
hairline_note <- runif(n) < 0.07
risk <- -3.75 + 1.25 * thick_fast + 0.5 * standardise(pots$wall_mm) +
  1.3 * pmax(dampness, 0)^1.3 + 0.45 * standardise(pots$cool_c_per_h) +
  body_risk[pots$clay_body] + glaze_risk[pots$glaze] + 0.3 * (pots$shelf == "top") +
  0.5 * (pots$kiln == "test") + 1.6 * hairline_note + pots$luck
pots$cracked <- ifelse(runif(n) < plogis(risk), "yes", "no")
body_shrink <- c(
  stoneware = 11.5, porcelain = 14, raku = 8.5, terracotta = 9, "buff grogged" = 10,
  "black mountain" = 11, "paper clay" = 12.5, "wild clay" = 10.5
)
pots$shrinkage_pct <- round(body_shrink[pots$clay_body] + 0.9 * standardise(pots$peak_c) +
  0.5 * pmax(standardise(pots$peak_c), 0)^2 + 0.02 * (pots$soak_min - 30) +
  0.35 * standardise(pots$humidity_pct) - 0.25 * standardise(pots$wall_mm) +
  0.45 * pots$luck + rnorm(n, 0, 0.6), 2)
flaw <- 1.6 * (pots$cracked == "yes") + 0.4 * abs(standardise(pots$peak_c)) +
  0.5 * glaze_risk[pots$glaze] + 0.3 * pots$luck + rnorm(n, 0, 0.55)
pots$grade <- as.character(cut(flaw, c(-Inf, 0.75, 1.75, Inf), c("first", "second", "waste")))

# Remarks -------------------------------------------------------------------
say <- function(n, ...) sample(c(...), n, replace = TRUE)
opening <- say(
  n, "thrown on the", "pulled from the", "turned on the", "trimmed by the",
  "built at the"
)
place <- say(n, "kick wheel", "old wheel", "window bench", "back table", "new wheel", "slab roller")
rim <- say(
  n, "rim even", "rim a little thin", "foot trimmed twice", "handle added late",
  "belly slightly off", "lid fits well", "spout cut clean", "base compressed"
)
weather <- ifelse(damp_note, say(n, "still damp at loading", "felt cold and damp", "not bone dry"),
  say(n, "dried slowly", "bone dry", "dried under plastic", "dry to the touch")
)
flaws <- ifelse(hairline_note, say(n, "hairline near the foot", "saw a hairline at the rim"), "")
joined <- paste(opening, place, rim, weather, flaws, sep = ", ")
pots$notes <- sub(", $", "", sub("the, ", "the ", joined, fixed = TRUE))

# What was not recorded -----------------------------------------------------
pots$glaze[runif(n) < 0.04] <- "n/r"
pots$drying_days[runif(n) < 0.06] <- -999
pots$humidity_pct[runif(n) < 0.05] <- NA
pots$notes[runif(n) < 0.05] <- NA
pots$peak_f <- round(pots$peak_c * 9 / 5 + 32, 1)
pots$pot_id <- sprintf("P%05d", sample(10000:99999, n))

columns <- c(
  "pot_id", "firing_id", "fired_on", "kiln", "clay_body", "glaze", "shelf", "wall_mm",
  "foot_mm", "height_mm", "weight_g", "ramp_c_per_h", "peak_c", "peak_f", "soak_min",
  "cool_c_per_h", "humidity_pct", "drying_days", "cone_batch", "shelf_age_weeks",
  "notes", "cracked", "shrinkage_pct", "grade"
)
file <- gzfile(file.path("inst", "extdata", "pots.csv.gz"), compression = 9)
write.csv(pots[columns], file, row.names = FALSE, na = "")
message(
  n, " pots, ", round(100 * mean(pots$cracked == "yes"), 1), " % cracked; grades ",
  paste(names(table(pots$grade)), table(pots$grade), collapse = ", ")
)
