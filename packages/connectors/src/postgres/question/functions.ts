/**
 * Functions of `pg_catalog` that change nothing, read no files, wait for nothing and run no text as SQL. Taken from those of
 * PostgreSQL 15 that are not volatile, without the ones that serve the system itself or print whole tables as XML, and
 * with some volatile ones that only look (clocks, random numbers, sizes, places in the log).
 */
export const FUNCTIONS: ReadonlySet<string> = new Set(
  `abbrev abs acos acosd acosh age area array_agg array_dims array_fill array_length array_lower array_ndims
  array_position array_positions array_remove array_replace array_to_json array_to_string array_to_tsvector array_upper
  ascii asin asind asinh atan atan2 atan2d atand atanh avg bit bit_and bit_count bit_length bit_or bit_xor bool bool_and
  bool_or box bpchar broadcast btrim cardinality cbrt ceil ceiling center char char_length character_length chr cidr
  circle clock_timestamp col_description concat concat_ws convert convert_from convert_to corr cos cosd cosh cot cotd
  count covar_pop covar_samp cume_dist current_database current_schema current_schemas current_setting current_user date
  date_bin date_part date_trunc datemultirange daterange decode degrees dense_rank diagonal diameter div encode
  enum_first enum_last enum_range every exp extract factorial family first_value float4 float8 floor format format_type
  gcd gen_random_uuid generate_series generate_subscripts get_bit get_byte get_current_ts_config getdatabaseencoding
  getpgusername grouping has_any_column_privilege has_column_privilege has_database_privilege
  has_foreign_data_wrapper_privilege has_function_privilege has_language_privilege has_parameter_privilege
  has_schema_privilege has_sequence_privilege has_server_privilege has_table_privilege has_tablespace_privilege
  has_type_privilege height host hostmask inet_client_addr inet_client_port inet_server_addr inet_server_port initcap
  int2 int4 int4inc int4multirange int4range int8 int8multirange int8range interval is_normalized isclosed isempty
  isfinite ishorizontal isopen isparallel isperp isvertical json_agg json_array_elements json_array_elements_text
  json_array_length json_build_array json_build_object json_each json_each_text json_object json_object_agg
  json_object_keys json_populate_record json_populate_recordset json_strip_nulls json_to_record json_to_recordset
  json_to_tsvector json_typeof jsonb_agg jsonb_array_elements jsonb_array_elements_text jsonb_array_length
  jsonb_build_array jsonb_build_object jsonb_each jsonb_each_text jsonb_insert jsonb_object jsonb_object_agg
  jsonb_object_keys jsonb_path_exists jsonb_path_exists_tz jsonb_path_match jsonb_path_match_tz jsonb_path_query
  jsonb_path_query_array jsonb_path_query_array_tz jsonb_path_query_first jsonb_path_query_first_tz jsonb_path_query_tz
  jsonb_populate_record jsonb_populate_recordset jsonb_pretty jsonb_set jsonb_set_lax jsonb_strip_nulls jsonb_to_record
  jsonb_to_recordset jsonb_to_tsvector jsonb_typeof justify_days justify_hours justify_interval lag last_value lcm lead
  left length like_escape line ln log log10 lower lower_inf lpad lseg ltrim macaddr macaddr8 macaddr8_set7bit make_date
  make_interval make_time make_timestamp make_timestamptz masklen max md5 min min_scale mod mode money multirange
  mxid_age name netmask network normalize now npoints nth_value ntile num_nonnulls num_nulls numeric nummultirange
  numnode numrange obj_description octet_length oid overlaps overlay parse_ident path percent_rank percentile_cont
  percentile_disc pg_available_extension_versions pg_available_extensions pg_backend_pid pg_char_to_encoding
  pg_client_encoding pg_collation_for pg_collation_is_visible pg_column_compression pg_column_is_updatable
  pg_column_size pg_conf_load_time pg_config pg_conversion_is_visible pg_current_snapshot pg_current_wal_flush_lsn
  pg_current_wal_insert_lsn pg_current_wal_lsn pg_current_xact_id_if_assigned pg_database_size pg_describe_object
  pg_encoding_max_length pg_encoding_to_char pg_extension_update_paths pg_filenode_relation pg_function_is_visible
  pg_get_catalog_foreign_keys pg_get_constraintdef pg_get_expr pg_get_function_arg_default pg_get_function_arguments
  pg_get_function_identity_arguments pg_get_function_result pg_get_function_sqlbody pg_get_functiondef pg_get_indexdef
  pg_get_keywords pg_get_object_address pg_get_partition_constraintdef pg_get_partkeydef pg_get_publication_tables
  pg_get_replica_identity_index pg_get_replication_slots pg_get_ruledef pg_get_serial_sequence pg_get_statisticsobjdef
  pg_get_statisticsobjdef_columns pg_get_statisticsobjdef_expressions pg_get_triggerdef pg_get_userbyid pg_get_viewdef
  pg_has_role pg_identify_object pg_identify_object_as_address pg_index_column_has_property pg_index_has_property
  pg_indexam_has_property pg_indexam_progress_phasename pg_indexes_size pg_is_in_recovery pg_is_other_temp_schema
  pg_last_wal_receive_lsn pg_last_wal_replay_lsn pg_last_xact_replay_timestamp pg_listening_channels pg_lsn
  pg_my_temp_schema pg_opclass_is_visible pg_operator_is_visible pg_opfamily_is_visible pg_options_to_table
  pg_partition_ancestors pg_partition_root pg_partition_tree pg_postmaster_start_time pg_relation_filenode
  pg_relation_filepath pg_relation_is_publishable pg_relation_is_updatable pg_relation_size pg_replication_origin_oid
  pg_sequence_parameters pg_settings_get_flags pg_show_all_settings pg_size_bytes pg_size_pretty pg_snapshot_xip
  pg_snapshot_xmax pg_snapshot_xmin pg_statistics_obj_is_visible pg_table_is_visible pg_table_size
  pg_tablespace_databases pg_tablespace_location pg_tablespace_size pg_timezone_abbrevs pg_timezone_names
  pg_total_relation_size pg_trigger_depth pg_ts_config_is_visible pg_ts_dict_is_visible pg_ts_parser_is_visible
  pg_ts_template_is_visible pg_type_is_visible pg_typeof pg_visible_in_snapshot pg_wal_lsn_diff pg_walfile_name
  pg_walfile_name_offset phraseto_tsquery pi plainto_tsquery point polygon position pow power querytree quote_ident
  quote_literal quote_nullable radians radius random range_agg range_intersect_agg range_merge rank regclass
  regexp_count regexp_instr regexp_like regexp_match regexp_matches regexp_replace regexp_split_to_array
  regexp_split_to_table regexp_substr regr_avgx regr_avgy regr_count regr_intercept regr_r2 regr_slope regr_sxx regr_sxy
  regr_syy repeat replace reverse right round row_number row_security_active row_to_json rpad rtrim scale session_user
  set_bit set_byte set_masklen setweight sha224 sha256 sha384 sha512 shobj_description sign similar_escape
  similar_to_escape sin sind sinh slope split_part sqrt starts_with statement_timestamp stddev stddev_pop stddev_samp
  string_agg string_to_array string_to_table strip strpos substr substring sum tan tand tanh text time timeofday
  timestamp timestamptz timetz timezone to_ascii to_char to_date to_hex to_json to_jsonb to_number to_regclass
  to_regcollation to_regnamespace to_regoper to_regoperator to_regproc to_regprocedure to_regrole to_regtype
  to_timestamp to_tsquery to_tsvector transaction_timestamp translate trim_array trim_scale trunc ts_delete ts_filter
  ts_headline ts_rank ts_rank_cd tsmultirange tsrange tstzmultirange tstzrange tsvector_to_array
  txid_current_if_assigned txid_current_snapshot txid_snapshot_xip txid_snapshot_xmax txid_snapshot_xmin
  txid_visible_in_snapshot unistr unnest upper upper_inf var_pop var_samp varbit varchar variance version
  websearch_to_tsquery width width_bucket xid xml xml_is_well_formed xml_is_well_formed_content
  xml_is_well_formed_document xmlagg xmlcomment xmlconcat xmlelement xmlexists xmlforest xmlvalidate xpath xpath_exists`.split(
    /\s+/,
  ),
)
