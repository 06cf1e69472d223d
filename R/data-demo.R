#' The pottery studio's firing ledger
#'
#' A made-up table: one row is one fired pot, about 1,600 pots from 120 firings
#' in three kilns, over three years. Pots of one firing share that firing's luck.
#'
#' @format A tibble with the columns
#' \describe{
#'   \item{pot_id}{Text, identifies the pot.}
#'   \item{firing_id}{Text, the firing: a group.}
#'   \item{fired_on}{Date of the firing.}
#'   \item{kiln}{Category: north, south, test.}
#'   \item{clay_body}{Category with 8 levels, some of them rare.}
#'   \item{glaze}{Category with 14 levels; "n/r" = not recorded.}
#'   \item{shelf}{Ordered category: bottom, lower, middle, upper, top.}
#'   \item{wall_mm, foot_mm, height_mm}{Wall thickness, foot width and height, millimetres.}
#'   \item{weight_g}{Weight before firing, grams (skewed).}
#'   \item{ramp_c_per_h}{Heating rate, degrees Celsius per hour.}
#'   \item{peak_c, peak_f}{Peak temperature in Celsius, and the same in Fahrenheit.}
#'   \item{soak_min}{Minutes held at the peak.}
#'   \item{cool_c_per_h}{Cooling rate, degrees Celsius per hour.}
#'   \item{humidity_pct}{Air humidity in the drying room, per cent; some missing.}
#'   \item{drying_days}{Days of drying; -999 = not recorded.}
#'   \item{cone_batch}{A number of the witness cone's batch: noise.}
#'   \item{shelf_age_weeks}{Age of the kiln shelf: noise.}
#'   \item{notes}{The potter's short remark: free text.}
#'   \item{cracked}{Outcome: yes or no, about 18 per cent yes.}
#'   \item{shrinkage_pct}{Outcome: shrinkage in per cent of the height.}
#'   \item{grade}{Outcome: first, second, waste.}
#' }
#' @return A tibble.
#' @section Errors:
#' `kw_error_file` when the installed package lacks the table.
#' @examples
#' demo_pots()
#' @export
demo_pots <- function() {
  pots <- read_data(system.file("extdata", "pots.csv.gz", package = "kilnwright", mustWork = TRUE))
  pots$shelf <- factor(pots$shelf,
    levels = c("bottom", "lower", "middle", "upper", "top"),
    ordered = TRUE
  )
  pots
}
