# What most runs go through, compiled as the package is installed; R compiles the rest by
# itself where it pays. All of it compiled would take much more room and no less time.
# Written by tools/compiled.R.
for (compiled in scan(what = "", quiet = TRUE, text = "
  %||% add_step_seconds added_at alike_values among apart_choices apart_from_leader are_steps
  as_further_looks as_looks as_nodes as_path_prediction as_plan as_utf8_file auc_columns
  auc_of_class begin_by_splits behind_leader bind_ledgers blank_inactive branch_of brief
  brief_target cache_key cannot_work canonical_text capture_selection carry_out catch_failure
  centre_and_spread chances_of_moves changed_points check_blended check_columns_exist check_costs
  check_encoding check_first_line check_folds check_grammar check_impossible check_input_needs
  check_number check_outcome_scale check_parts check_prediction check_quantiles check_record
  check_role_values check_roles check_rules check_setting check_something_left check_table
  choose_best_mean choose_no_worse choose_one_se choose_steady choose_within class_recalls
  clean_settings clean_table code_names coded_levels codes_of compile_candidate complete_settings
  confusion_columns confusion_counts copy_connection corrected_scores count_nodes count_of
  crossed_strata deal_groups default_frame derive_seed design_effect diagnose dimension_features
  draw_standings draw_tuning drawn_field encode_input end_in_part enumerate error_factor
  error_of_means evolve_further execute_plan expand_minimal expected_means extend_work
  extra_lines failed_splits family_definition family_input family_inputs family_most_levels
  family_notes family_packages fill_nodes fill_of fill_part filled_matrix find_edges find_failed
  find_gap find_metric find_metrics find_odd_splits find_wide_spread finish_comparison first_line
  first_round fit_alike fit_baseline fit_chains fit_describer fit_forest fit_keys fit_penalised
  fit_process fit_tree fits_alike fits_below flat_form fly flying_pool for_rules
  forgiving_metrics frame_swap from_to goodness grid_settings group_rows grown_known hardly_known
  has_byte honest_score honest_text honest_words hyperparameter_importance imagined in_budget
  in_focus in_one_sentence in_spread_order in_true_names incident_rows indent_depth input_form
  insert_rows is_cut_off is_harmless_code joined_by_fit joined_cells journal_facts journal_handle
  journal_parts json_column json_state judge_settings learn_coding learn_missing learn_node
  learn_onehot learn_rare_levels learn_scale learn_schema learn_settled learned_kind
  ledger_of_fits let_go_of_rows limit_settings lines_that_fit listing_cells load_packages
  load_plan_yaml lock_journal log_loss_columns looked_at looks_of_field lowest_prediction
  made_form make_journal make_splits mark_table meet_brief meet_one meeting_notes
  member_fam_baseline member_fam_forest member_fam_penalised member_fam_tree member_metric_auc
  member_metric_balanced_accuracy member_metric_log_loss member_metric_rmse member_outcome_count
  member_outcome_many_class member_outcome_ordered member_outcome_two_class member_step_missing
  member_step_scale member_yaml mend_level merits_of_field merits_of_values metric_definition
  moved_groups near_places needs_two_classes never_undefined new_brood new_cache new_context
  new_costs new_death_watch new_doubt new_family new_fitter new_flights new_node_store
  new_predictor new_results new_rival new_round_state new_row_writer new_run new_schedule
  new_scorer new_seeds new_silence new_sink new_step new_step_log new_watch new_work
  next_generation no_simplicity node_dimensions only_inputs open_journal optimism_of_choice
  packed_run paired_differences paired_field pairs_alike pairs_with parents_of part_at part_form
  part_values part_yaml partial_scores path_count path_values pending_groups percent picked_worth
  pipeline plain_column plain_fields plain_file plain_form plain_tree plan_as_text plan_brief
  plan_choosing plan_columns plan_comparison plan_from_file plan_keys plan_language plan_lines
  plan_member plan_part plan_parts plan_rule plan_search plan_set_aside plan_shared plan_step
  plan_value point_pool points_of predict_baseline predict_family predict_forest
  predict_penalised predict_tree predicted_process prediction_rows prefix_means prepared_node
  process_likelihood process_pool promising_points propose_all radical_inverse ranger_predictions
  read_delimited reasons_for_na reference_column refresh_brief refuse_empty_round refuse_missing
  refuse_zero_byte remember_rng repeats_alike report_listing report_table resolve_part results_of
  round_as_text row_names_of_fits row_sums_of rows_at rows_beside rows_of run_alike run_parts
  run_round run_stage run_unit scaled_goods score_predictions score_summary score_with_threshold
  screen_about screen_round screen_splits screen_view seal_rows search_evolve search_guided
  search_history search_of search_seats search_sentence searches_by_candidate searches_text
  seconds_now seconds_of_first select_columns select_final selection_field send_home set_aside
  setting_words settled_sentence shortlist shortlist_counts simplicity_columns software_versions
  solve_process split_kfold spread_ledger stage_in_time stages_of_tasks standings
  standings_figure_data standings_rows start_own_workers step_key steps_of_rows sums_of_values
  surrogate_lengths swapped_groups table_lines takes_columns timed_unit told_goods training_rows
  tree_data tree_nodes tuned_candidate tuning_axes tuning_figure_data tuning_lines
  undefined_splits understand_outcome unit_place untouched_rows usable_weights use_missing
  use_scale usual_value value_yaml varied_columns visible wanted_of_target weighted_columns
  weighted_median whole_children why_impossible with_codes_as_text with_conditions
  with_constrained with_every_point with_margin with_new_fits with_paths with_pilots with_remarks
  with_seconds with_seed with_settings without_empty_parts without_rng_trace without_twins
  words_of_code worse_beyond_doubt worth_of_values worth_the_rest write_bytes write_out_minimal
  write_working_rows wrong_answer wrong_ledger
")) {
  if (exists(compiled, inherits = FALSE)) assign(compiled, cmpfun(get(compiled)))
}
rm(compiled)
