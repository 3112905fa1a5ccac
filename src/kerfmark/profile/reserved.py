"""Words that some supported engine reserves (made by tools/make_reserved.py)."""

WORDS = """
    accessible add admin after all alter analyse analyze and any array as asc asensitive asymmetric attach
    authorization autoincrement backup before begin between bigint binary blob body both break browse bulk by call
    cascade case cast change char character check checkpoint close cluster clustered coalesce collate column comment
    commit compress compute condition conflict connect constraint contains containstable continue convert create cross
    cube cume_dist current current_date current_role current_time current_timestamp current_user cursor database
    databases date day_hour day_microsecond day_minute day_second dbcc deallocate dec decimal declare default
    deferrable deferred delayed delete dense_rank deny desc describe detach deterministic disk distinct distinctrow
    distributed div do do_domain_ids double drop dual dump each else elseif elsif empty enclosed end errlvl escape
    escaped except exclusive exec execute exists exit explain external fail false fetch file fillfactor first_value
    float float4 float8 for force foreign freetext freetexttable freeze from full fulltext function general generated
    get get_master_public_key glob goto grant group grouping groups having high_priority history holdlock
    hour_microsecond hour_minute hour_second identified identity identity_insert identitycol if ignore
    ignore_domain_ids ignore_server_ids ilike immediate in index indexed infile initially inner inout insensitive
    insert instead int int1 int2 int3 int4 int8 integer intersect interval into io_after_gtids io_before_gtids is
    isnull iterate join json_table key keys kill lag last_value lateral lead leading leave left level like limit
    linear lineno lines load localtime localtimestamp lock long longblob longtext loop low_priority master_bind
    master_heartbeat_period master_ssl_verify_server_cert match maxvalue mediumblob mediumint mediumtext member merge
    middleint minus minute_microsecond minute_second mod mode modifies national natural new no_write_to_binlog nocheck
    nocompress nonclustered not notnull nowait nth_value ntile null nullif number numeric of off offset offsets old on
    only open opendatasource openquery openrowset openxml optimize optimizer_costs option optionally or order others
    out outer outfile over overlaps package page_checksum parallel parse_gcol_expr parse_vcol_expr partition pctfree
    percent percent_rank period persist persist_only pivot placing plan position pragma precision primary print prior
    proc procedure public purge qualify query raise raiserror range rank raw read read_write reads readtext real
    reconfigure recursive ref_system_id references regexp reindex release rename repeat replace replication require
    resignal resource restore restrict return returning revert revoke right rlike role rollback row row_number
    rowcount rowguidcol rows rowtype rule save schema schemas second_microsecond securityaudit select sensitive
    separator session_user set setuser share show shutdown signal similar size slow smallint some spatial specific sql
    sql_after_gtids sql_before_gtids sql_big_result sql_calc_found_rows sql_small_result sqlexception sqlstate
    sqlwarning ssl start starting statistics stats_auto_recalc stats_persistent stats_sample_pages stored
    straight_join symmetric synonym system system_time system_user table tablesample temp temporary terminated
    textsize then tinyblob tinyint tinytext to top trailing tran transaction trigger true truncate tsequal uid undo
    union unique unlock unpivot unsigned update updatetext usage use user using utc_date utc_time utc_timestamp vacuum
    values varbinary varchar varchar2 varcharacter varying verbose versioning view virtual waitfor when where while
    window with without write writetext xor year_month zerofill
"""
RESERVED = frozenset(WORDS.split())
