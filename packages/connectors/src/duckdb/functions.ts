/**
 * Functions of DuckDB that change nothing, read no files, wait for nothing, run no text as SQL and make no value out of all
 * proportion to what they are given. Taken from `duckdb_functions()` of version 1.5, without those that have side effects, serve
 * the system itself, or repeat and pad.
 */
export const FUNCTIONS: ReadonlySet<string> = new Set(
  `abs acos acosh add age ago any_value apply approx_count_distinct approx_quantile approx_top_k arbitrary arg_max
  arg_max_null arg_max_nulls_last arg_min arg_min_null arg_min_nulls_last argmax argmin array_agg array_aggr
  array_aggregate array_append array_apply array_cat array_concat array_contains array_cosine_distance
  array_cosine_similarity array_cross_product array_distance array_distinct array_dot_product array_extract array_filter
  array_grade_up array_has array_has_all array_has_any array_indexof array_inner_product array_intersect array_length
  array_negative_dot_product array_negative_inner_product array_pop_back array_pop_front array_position array_prepend
  array_push_back array_push_front array_reduce array_reverse array_reverse_sort array_select array_slice array_sort
  array_to_json array_to_string array_to_string_comma_default array_transform array_unique array_value array_where
  array_zip ascii asin asinh atan atan2 atanh avg bar base64 bin bit_and bit_count bit_length bit_or bit_position
  bit_xor bitstring_agg bool_and bool_or cardinality cbrt ceil ceiling century char_length character_length chr coalesce
  col_description concat concat_ws contains corr cos cosh cot count count_if count_star countif covar_pop covar_samp
  cume_dist current_catalog current_database current_date current_localtime current_localtimestamp current_role
  current_schema current_schemas current_setting current_user damerau_levenshtein date_add date_diff date_part date_sub
  date_trunc datediff datepart datesub datetrunc day dayname dayofmonth dayofweek dayofyear days_in_month decade decode
  degrees dense_rank divide editdist3 element_at encode ends_with entropy enum_code enum_first enum_last enum_range
  enum_range_boundary epoch epoch_ms epoch_ns epoch_us era even exp factorial favg fdiv fill filter first first_value
  flatten floor fmod formatReadableDecimalSize formatReadableSize format_bytes format_pg_type format_type from_base64
  from_binary from_hex from_json from_json_strict fsum gamma gcd gen_random_uuid geomean geometric_mean get_bit
  get_current_time get_current_timestamp grade_up greatest greatest_common_divisor group_concat grouping hamming
  has_any_column_privilege has_column_privilege has_database_privilege has_foreign_data_wrapper_privilege
  has_function_privilege has_language_privilege has_schema_privilege has_sequence_privilege has_server_privilege
  has_table_privilege has_tablespace_privilege hash hex histogram histogram_exact hour icu_sort_key ilike_escape
  inet_client_addr inet_client_port inet_server_addr inet_server_port instr is_histogram_other_bin isfinite isinf isnan
  isodow isoyear jaccard jaro_similarity jaro_winkler_similarity json json_array json_array_length json_contains
  json_exists json_extract json_extract_path json_extract_path_text json_extract_string json_group_array
  json_group_object json_group_structure json_keys json_merge_patch json_object json_pretty json_quote json_structure
  json_transform json_transform_strict json_type json_valid json_value julian kahan_sum kurtosis kurtosis_pop lag last
  last_day last_value lcase lcm lead least least_common_multiple left left_grapheme len length length_grapheme
  levenshtein lgamma like_escape list list_aggr list_aggregate list_any_value list_append list_apply
  list_approx_count_distinct list_avg list_bit_and list_bit_or list_bit_xor list_bool_and list_bool_or list_cat
  list_concat list_contains list_cosine_distance list_cosine_similarity list_count list_distance list_distinct
  list_dot_product list_element list_entropy list_extract list_filter list_first list_grade_up list_has list_has_all
  list_has_any list_histogram list_indexof list_inner_product list_intersect list_kurtosis list_kurtosis_pop list_last
  list_mad list_max list_median list_min list_mode list_negative_dot_product list_negative_inner_product list_pack
  list_position list_prepend list_product list_reduce list_reverse list_reverse_sort list_select list_sem list_skewness
  list_slice list_sort list_stddev_pop list_stddev_samp list_string_agg list_sum list_transform list_unique list_value
  list_var_pop list_var_samp list_where list_zip listagg ln log log10 log2 lower ltrim mad make_date make_time
  make_timestamp make_timestamp_ms make_timestamp_ns make_timestamptz map map_concat map_contains map_contains_entry
  map_contains_value map_entries map_extract map_extract_value map_from_entries map_keys map_to_pg_oid map_values max
  max_by md5 md5_number mean median microsecond millennium millisecond min min_by minute mismatches mod mode month
  monthname multiply nanosecond nextafter nfc_normalize normalized_interval not_ilike_escape not_like_escape now
  nth_value ntile nullif obj_description octet_length ord parse_dirname parse_dirpath parse_filename
  parse_formatted_bytes parse_path percent_rank pg_collation_is_visible pg_conf_load_time pg_conversion_is_visible
  pg_function_is_visible pg_get_constraintdef pg_get_expr pg_get_viewdef pg_has_role pg_is_other_temp_schema
  pg_my_temp_schema pg_opclass_is_visible pg_operator_is_visible pg_opfamily_is_visible pg_postmaster_start_time
  pg_size_pretty pg_table_is_visible pg_ts_config_is_visible pg_ts_dict_is_visible pg_ts_parser_is_visible
  pg_ts_template_is_visible pg_type_is_visible pg_typeof pi position pow power prefix product quantile quantile_cont
  quantile_disc quarter radians random rank rank_dense reduce regexp_escape regexp_extract regexp_extract_all
  regexp_full_match regexp_matches regexp_replace regexp_split_to_array regexp_split_to_table regr_avgx regr_avgy
  regr_count regr_intercept regr_r2 regr_slope regr_sxx regr_sxy regr_syy replace reservoir_quantile reverse right
  right_grapheme round round_even roundbankers row row_number row_to_json rtrim second sem session_user set_bit sha1
  sha256 shobj_description sign signbit sin sinh skewness split split_part sqrt starts_with stddev stddev_pop
  stddev_samp str_split str_split_regex strftime string_agg string_split string_split_regex string_to_array
  strip_accents strlen strpos strptime struct_concat struct_contains struct_extract struct_extract_at struct_has
  struct_indexof struct_insert struct_keys struct_pack struct_position struct_update struct_values substr substring
  substring_grapheme subtract suffix sum sum_no_overflow sumkahan switch tan tanh time_bucket timezone timezone_hour
  timezone_minute to_base to_base64 to_binary to_centuries to_days to_decades to_hex to_hours to_json to_microseconds
  to_millennia to_milliseconds to_minutes to_months to_quarters to_seconds to_timestamp to_weeks to_years today
  transaction_timestamp translate trim trunc try_strptime typeof ucase unbin unhex unicode union_extract union_tag
  union_value unnest upper url_decode url_encode user uuid uuid_extract_timestamp uuid_extract_version uuidv4 uuidv7
  var_pop var_samp variance variant_extract variant_typeof version wavg week weekday weekofyear weighted_avg xor year
  yearweek`.split(/\s+/),
)

export const OPERATORS: ReadonlySet<string> = new Set(
  `!__postfix !~~ !~~* % & && * ** + - ->> / // <-> << <=> <@ >> @ @> ^ ^@ | || ~ ~~ ~~* ~~~`.split(' '),
)

/** Those that stand where a table does. */
export const TABLE_FUNCTIONS: ReadonlySet<string> = new Set(
  `duckdb_columns duckdb_constraints duckdb_databases duckdb_functions duckdb_indexes duckdb_schemas duckdb_sequences
  duckdb_settings duckdb_tables duckdb_types duckdb_views generate_series json_each json_tree pg_timezone_names
  pragma_database_size pragma_storage_info pragma_table_info pragma_version range unnest`.split(/\s+/),
)
