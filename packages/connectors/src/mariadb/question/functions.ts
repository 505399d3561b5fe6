/**
 * Functions of MariaDB that change nothing, read no files, wait for nothing and tell no keys. Taken from
 * `information_schema.sql_functions` of version 10.11 and the functions that are words of its grammar, without locks, sleeping,
 * `LOAD_FILE`, those that wait for replicas, and those for passwords.
 */
export const FUNCTIONS: ReadonlySet<string> = new Set(
  `abs acos add_months adddate addtime aes_decrypt aes_encrypt ascii asin atan atan2 avg bin binary bit bit_and bit_count
  bit_length bit_or bit_xor cast ceil ceiling char char_length character_length chr coalesce coercibility collation
  column_check column_exists column_json column_list compress concat concat_ws connection_id conv convert convert_tz cos
  cot count crc32 crc32c cume_dist curdate current_date current_role current_time current_timestamp current_user curtime
  database date date_add date_format date_sub datediff datetime day dayname dayofmonth dayofweek dayofyear dec decimal
  decode degrees dense_rank double elt encode enum exp export_set extract extractvalue field find_in_set first_value
  float floor format from_base64 from_days from_unixtime greatest group_concat grouping hex hour if ifnull inet6_aton
  inet6_ntoa inet_aton inet_ntoa insert instr integer is_ipv4 is_ipv4_compat is_ipv4_mapped is_ipv6 isnull json_array
  json_array_append json_array_insert json_arrayagg json_compact json_contains json_contains_path json_depth
  json_detailed json_equals json_exists json_extract json_insert json_keys json_length json_loose json_merge
  json_merge_patch json_merge_preserve json_normalize json_object json_objectagg json_overlaps json_pretty json_query
  json_quote json_remove json_replace json_search json_set json_table json_type json_unquote json_valid json_value lag
  last_day lcase lead least left length lengthb ln localtime localtimestamp locate log log10 log2 lower lpad ltrim
  make_set makedate maketime max md5 median microsecond mid min minute mod month monthname natural_sort_key nchar now
  nth_value ntile nullif numeric nvl nvl2 oct octet_length ord percent_rank percentile_cont percentile_disc period_add
  period_diff pi point position pow power quarter quote radians rand rank regexp_instr regexp_replace regexp_substr
  repeat replace reverse right round row_number rpad rtrim schema schemas sec_to_time second session_user set sformat
  sha sha1 sha2 sign signed sin soundex space sqrt st_asbinary st_asgeojson st_astext st_aswkt st_geometrytype st_srid
  st_x st_y std stddev stddev_pop stddev_samp str_to_date strcmp subdate substr substring substring_index subtime sum
  sys_guid sysdate system_user tan time time_format time_to_sec timediff timestamp timestampadd timestampdiff to_base64
  to_char to_days to_seconds trim truncate ucase uncompress uncompressed_length unhex unix_timestamp unsigned updatexml
  upper user utc_date utc_time utc_timestamp uuid uuid_short values var_pop var_samp varbinary varchar variance version
  week weekday weekofyear weight_string year yearweek`.split(/\s+/),
)

/** Words that an opening bracket may follow, and that are no functions. */
export const BEFORE_BRACKETS: ReadonlySet<string> = new Set(
  `against all and any as between binary by case distinct div else escape except exists fetch force from having ignore in
  index intersect interval is join key lateral like limit match not offset on or over partition recursive regexp rlike
  row select some then union use using values when where with xor`.split(/\s+/),
)
