# What most runs go through, compiled as the package is installed; R compiles the rest by
# itself where it pays. All of it compiled would take much more room and no less time.
# Written by tools/compiled.R.
for (compiled in scan(what = "", quiet = TRUE, text = "
  add_at add_step_seconds alike_values among apart_choices apart_from_leader as_further_looks
  as_looks as_nodes as_plan begin_by_splits behind_leader bind_ledgers blank_inactive branch_of
  brief_target canonical_text capture_selection centre_and_spread chances_of_moves changed_points
  check_columns_exist check_encoding check_input_needs check_number check_prediction check_record
  check_setting check_table choose_best_mean choose_no_worse choose_one_se choose_steady
  choose_within clean_settings codes_of compile_candidate complete_settings confusion_counts
  corrected_scores count_nodes deal_groups default_frame design_effect diagnose
  dimension_features draw_standings draw_tuning drawn_field encode_input error_factor
  error_of_means evolve_further expected_means extend_work extra_lines failed_splits family_input
  family_inputs family_notes fill_nodes fill_of fill_part find_edges find_failed find_gap
  find_metric find_odd_splits find_wide_spread fit_alike fit_describer fit_keys fit_penalised
  fit_process fits_below for_rules frame_swap from_to grid_settings group_rows grown_known
  hardly_known honest_score honest_text honest_words hyperparameter_importance imagined in_budget
  in_focus in_one_sentence in_spread_order in_true_names incident_rows insert_rows joined_by_fit
  joined_cells json_column json_state judge_settings learn_missing learn_node learn_onehot
  learn_rare_levels learn_scale learn_schema learn_settled ledger_of_fits limit_settings
  lines_that_fit listing_cells load_packages lock_journal looked_at looks_of_field made_form
  mark_table meet_one meeting_notes member_fam_baseline member_fam_forest member_fam_penalised
  member_fam_tree member_metric_auc member_outcome_two_class member_step_missing
  member_step_scale member_yaml mend_level merits_of_field merits_of_values moved_groups
  near_places new_brood new_cache new_context new_fitter new_node_store new_results new_rival
  new_schedule new_scorer new_step new_work next_generation node_dimensions only_inputs
  optimism_of_choice paired_differences paired_field pairs_alike pairs_with parents_of part_at
  part_form part_values part_yaml partial_scores path_values pending_groups picked_worth pipeline
  plain_column plan_columns plan_keys plan_language plan_member plan_part plan_parts plan_step
  plan_value point_pool points_of predict_family predict_penalised predicted_process
  process_likelihood promising_points propose_all radical_inverse reasons_for_na reference_column
  refresh_brief report_listing report_table resolve_part results_of run_alike run_parts run_round
  run_stage scaled_goods score_summary screen_about screen_round screen_splits screen_view
  search_evolve search_guided search_history search_of search_sentence select_columns
  select_final selection_field setting_words settled_sentence shortlist shortlist_counts
  simplicity_columns software_versions solve_process split_kfold spread_ledger stage_in_time
  stages_of_tasks standings_figure_data standings_rows step_key sums_of_values surrogate_lengths
  swapped_groups table_lines told_goods training_rows tuned_candidate tuning_axes
  tuning_figure_data tuning_lines use_missing use_scale usual_value value_yaml varied_columns
  weighted_median whole_children why_impossible with_every_point with_margin with_new_fits
  with_paths with_pilots with_remarks with_seconds with_settings without_empty_parts
  without_twins worse_beyond_doubt worth_of_values worth_the_rest write_out_minimal write_plain
")) {
  if (exists(compiled, inherits = FALSE)) assign(compiled, cmpfun(get(compiled)))
}
rm(compiled)
