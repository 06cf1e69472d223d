# What every run goes through, compiled as the package is installed; R compiles the rest by
# itself where it pays. All of it compiled would take three times the room and no less time.
# Written by tools/compiled.R.
for (compiled in scan(what = "", quiet = TRUE, text = "
  %||% add_at add_step_seconds all_levels among apart_choices are_moments as_nodes as_plan
  ask_searches asked_fits begin_by_splits behind_leader best_power bind_ledgers blank_inactive
  branch_of brief brief_target bytes_made_by canonical_function canonical_text capture_selection
  carry_out catch_failure centre_and_spread chain_lengths check_columns_exist check_encoding
  check_folds check_grammar check_impossible check_input_needs check_number check_prediction
  check_record check_rules check_self_contained check_setting check_table choose_best_mean
  choose_if_any choose_no_worse choose_one_se choose_steady choose_within clean_settings
  compile_candidate complete_settings confusion_counts corrected_scores crossed_strata
  cube_features deal_single_rows declared_by_user default_frame define_family design_effect
  diagnose draw_standings draw_tuning drawn_field either_dimensions either_name encode_input
  end_in_part error_factor error_of_means execute_plan expand_minimal extend_work extra_lines
  failed_splits family_input family_inputs family_notes fill_nodes fill_of fill_part find_edges
  find_failed find_gap find_metric find_metrics find_odd_splits find_wide_spread
  finish_comparison finish_reading fit_alike fit_baseline fit_describer fit_final fit_forest
  fit_keys fit_penalised fit_process fit_surrogate_forest fit_tree fits_below fly for_owner_only
  forest_block forgiving_metrics frame_swap from_to greedy_parts grid_settings hardly_known
  honest_score honest_text honest_words hyperparameter_importance imagined in_budget in_focus
  in_one_sentence in_spread_order in_transaction incident_rows insert_rows is_harmless_code
  joined_by_fit joined_cells journal_parts json_of json_state learn_missing learn_node
  learn_onehot learn_rare_levels learn_scale learn_settled learn_step leave_out_absent
  ledger_of_fits limit_settings listing_cells load_packages looked_at made_form make_journal
  make_splits mark_table meet_brief meet_one meeting_notes member_fam_baseline member_fam_forest
  member_fam_penalised member_fam_tree member_metric_auc member_outcome_two_class
  member_step_missing member_step_scale member_yaml mend_level moved_groups near_points new_cache
  new_context new_costs new_fitter new_node_store new_record new_results new_rival
  new_round_state new_row_writer new_run new_schedule new_scorer new_sink new_step new_watch
  new_work no_more node_dimensions note_warnings one_se_reason only_inputs open_journal
  optimism_of_choice own_value packages_called paired_differences paired_field part_at part_form
  part_values part_yaml path_values pending_groups picked_worth pipeline plain_column
  plain_forest plain_model_bytes plain_tree plan_as_text plan_brief plan_columns plan_comparison
  plan_from_file plan_keys plan_language plan_member plan_part plan_parts plan_step plan_value
  png_bytes point_pool points_of portable_function predict_baseline predict_family predict_forest
  predict_penalised predict_raw predict_tree prepared_node preview process_likelihood
  process_pool progress_text promising_points propose_all radical_inverse ranger_predictions
  read_data reasons_for_na reference_column refresh_brief refuse_empty_round report_choice
  report_figure report_listing report_page report_part report_spread report_standings
  report_table report_tuning report_verdict resolve_part results_of round_as_text round_to
  row_names_of_fits run_alike run_command run_comparison run_one_command run_plan run_plan_file
  run_round run_stage run_unit save_model save_png scaled_field score_summary screen_about
  screen_round screen_splits screen_view screen_words search_guided search_history search_of
  search_seats search_sentence searches_by_candidate seconds_now seen_of_field seen_points
  select_columns selection_field setting_words settled_sentence shortlist shortlist_counts
  simplicity_columns software_versions solve_process split_kfold spread_ledger standings
  standings_figure_data standings_rows step_counts step_key step_rows steps_of_rows straighten
  surrogate_forest surrogate_lengths swapped_groups table_lines theme_kilnwright timed_unit
  training_rows true_levels tuned_candidate tuning_axes tuning_figure_data tuning_lines
  undefined_splits use_missing use_scale use_skew usual_value varied_columns weighted_columns
  weighted_median weighted_quantile why_impossible with_conditions with_constrained with_margin
  with_new_fits with_paths with_pilots with_plan with_remarks with_seconds with_seed with_spread
  without_rng_trace worse_beyond_doubt worth_of_values write_out_minimal write_plain
  write_plan_tables write_report write_results write_whole wrong_answer wrong_ledger
")) {
  if (exists(compiled, inherits = FALSE)) assign(compiled, cmpfun(get(compiled)))
}
rm(compiled)
