# Words that people try, and what they are called here: for hints only.

synonyms <- list(
  sensitivity = "recall", tpr = "recall", hit_rate = "recall", tnr = "specificity",
  ppv = "precision", positive_predictive_value = "precision", roc_auc = "auc", auroc = "auc",
  roc = "auc", c_index = "auc", gini_index = "auc", pr_auc = "average_precision",
  auprc = "average_precision", ap = "average_precision", cross_entropy = "log_loss",
  deviance = "log_loss", logloss = "log_loss", brier_score = "brier", error_rate = "accuracy",
  f_measure = "f1", f_score = "f1", f2 = "f_beta", fbeta = "f_beta", cohen_kappa = "kappa",
  matthews = "mcc", r2 = "r_squared", rsq = "r_squared", r_sq = "r_squared",
  ccc = "lin_concordance", concordance = "lin_concordance", mse = "rmse",
  mean_squared_error = "rmse", mean_absolute_error = "mae", quantile_loss = "pinball",
  expected_cost = "cost", svm = "support_vectors", svc = "support_vectors",
  svr = "support_vectors", knn = "neighbours", neighbors = "neighbours",
  nearest_neighbours = "neighbours", lasso = "penalised", ridge = "penalised",
  elastic_net = "penalised", penalized = "penalised", logistic = "linear", lm = "linear",
  glm = "linear", regression = "linear", random_forest = "forest", gbm = "boosted",
  boosting = "boosted", boost = "boosted", mars = "adaptive_splines", lda = "discriminant",
  qda = "discriminant", bayes = "naive_bayes", nnet = "neural", mlp = "neural",
  neural_net = "neural", decision_tree = "tree", cart = "tree", dummy = "baseline",
  pca = "components", impute = "missing", imputation = "missing", fill = "missing",
  dummies = "onehot", one_hot = "onehot", center = "scale", normalize = "scale",
  normalise = "scale", standardize = "scale", standardise = "scale", log = "skew",
  transform = "skew", winsorise = "outliers", winsorize = "outliers", discretise = "bins",
  discretize = "bins", binning = "bins", target_encoding = "target_mean",
  count_encoding = "frequency", hashing = "hash", label_encoding = "ordinal", smote = "balance",
  upsample = "balance", downsample = "balance", zero_variance = "drop_constant",
  correlation = "drop_correlated", filter = "keep_top", rare = "rare_levels", tokenize = "text",
  tokens = "text", tfidf = "text", cv = "kfold", cross_validation = "kfold", folds = "kfold",
  loo = "leave_row", loocv = "leave_row", lambda = "penalty", alpha = "lasso_share",
  mtry = "columns_tried", ntree = "trees", k = "neighbours", learning_rate = "rate", eta = "rate",
  cp = "pruning", complexity = "pruning", sigma = "width", gamma = "width", c = "cost"
)

# What a word is called here, if it is among the known ones.
synonym_of <- function(name, known) {
  key <- gsub("[^a-z0-9]+", "_", tolower(name))
  key <- sub("^(pre|fam|metric|split)_", "", key)
  found <- synonyms[[key]]
  if (is.null(found)) return(character())
  known[known == found |
    endsWith(known, paste0("_", found)) & grepl("^(pre|fam|metric|split)_", known)]
}
