# What every run goes through, compiled as the package is installed; R compiles the rest by
# itself where it pays. All of it compiled would take three times the room and no less time.
# Written by tools/compiled.R.
for (compiled in scan(what = "", quiet = TRUE, text = "
  add_at add_step_seconds among apart_choices are_moments as_nodes as_plan asked_fits
  begin_by_splits behind_leader best_power bind_ledgers blank_inactive branch_of brief_target
  canonical_function canonical_text capture_selection carry_out centre_and_spread chain_lengths
  check_columns_exist check_encoding check_folds check_grammar check_impossible check_input_needs
  check_number check_prediction check_record check_rules check_self_contained check_setting
  check_table choose_best_mean choose_no_worse choose_one_se choose_steady choose_within
  clean_settings compile_candidate complete_settings confusion_counts corrected_scores
  crossed_strata cube_features deal_single_rows declared_by_user default_frame define_family
  design_effect diagnose draw_standings draw_tuning drawn_field either_dimensions either_name
  encode_input end_in_part enough_to_learn error_factor error_of_means execute_plan
  expand_minimal extend_work extra_lines failed_splits family_input family_inputs family_notes
  fill_nodes fill_of fill_part find_edges find_failed find_gap find_metric find_metrics
  find_odd_splits find_wide_spread first_points fit_alike fit_baseline fit_describer fit_forest
  fit_keys fit_penalised fit_process fit_tree fits_below forgiving_metrics frame_swap from_to
  greedy_parts grid_settings guided_start hardly_known honest_score honest_text honest_words
  hyperparameter_importance imagined in_budget in_focus in_one_sentence in_spread_order
  incident_rows insert_rows is_harmless_code joined_by_fit joined_cells journal_parts json_state
  learn_missing learn_node learn_onehot learn_rare_levels learn_scale learn_settled
  ledger_of_fits limit_settings listing_cells load_packages looked_at made_form make_splits
  mark_table meet_brief meet_one meeting_notes member_fam_baseline member_fam_forest
  member_fam_penalised member_fam_tree member_metric_auc member_outcome_two_class
  member_step_missing member_step_scale member_yaml mend_level moved_groups near_points new_cache
  new_context new_costs new_fitter new_node_store new_results new_rival new_round_state
  new_row_writer new_run new_schedule new_scorer new_sink new_step new_watch new_work no_more
  node_dimensions note_warnings one_se_reason only_inputs optimism_of_choice own_value
  packages_called paired_differences paired_field part_at part_form part_values part_yaml
  path_values pending_groups picked_worth pipeline plain_column plain_forest plain_points
  plain_tree plan_columns plan_comparison plan_keys plan_language plan_member plan_part
  plan_parts plan_step plan_value point_pool points_of portable_function predict_baseline
  predict_family predict_forest predict_penalised predict_tree preview process_likelihood
  process_pool progress_text promising_points propose_all radical_inverse ranger_predictions
  reasons_for_na reference_column refresh_brief refuse_empty_round report_listing report_table
  resolve_part results_of round_as_text row_names_of_fits run_alike run_round run_stage
  scaled_field score_summary screen_about screen_round screen_splits screen_view screen_words
  search_guided search_history search_of search_seats search_sentence searches_by_candidate
  seen_of_field seen_points select_columns selection_field setting_words settled_sentence
  shortlist shortlist_counts simplicity_columns software_versions solve_process split_kfold
  spread_ledger standings standings_figure_data standings_rows step_counts step_key step_rows
  steps_of_rows straighten surrogate_lengths swapped_groups table_lines training_rows true_levels
  tuned_candidate tuning_axes tuning_figure_data tuning_lines undefined_splits use_missing
  use_scale use_skew usual_value varied_columns weighted_median weighted_quantile why_impossible
  with_constrained with_margin with_new_fits with_paths with_pilots with_remarks with_seconds
  worse_beyond_doubt worth_of_values write_out_minimal write_plain wrong_answer wrong_ledger
")) {
  if (exists(compiled, inherits = FALSE)) assign(compiled, cmpfun(get(compiled)))
}
rm(compiled)
