//! What stands in the way of a load in the catalog of PostgreSQL: rights that the user lacks, types of the
//! same name, and what hangs on a table that is to be replaced.

use super::PostgresSession;
use super::catalog::condition;
use super::types::{self, Found};
use typhos_core::remedy::Remedy;
use typhos_core::wording::{counted, listed};
use typhos_load::TargetError;
use typhos_load::table::{Adding, Ask, Intent, Objections};
use typhos_load::{Action, Problem, columns_go_along, goes_along, rows_go_along};
use typhos_sql::{self as sql, Definitions, Postgres};

/// How many times larger than the input a table may be that rows go straight into: all of it is read to find them.
const MOST_TIMES: u64 = 4;

pub(super) fn objections(
    session: &mut PostgresSession,
    intent: &Intent<'_>,
) -> Result<Objections, TargetError> {
    let mut found = Objections::default();
    let schema = session.schema();
    let is_there =
        session.one(&format!("SELECT count(*) FROM pg_namespace WHERE nspname = {schema}"))?;
    if is_there.as_deref() == Some("0") {
        let name = session.url.schema.clone().unwrap_or_default();
        let help =
            format!("CREATE SCHEMA {}; or name another in the URL", Postgres.identifier(&name));
        found.problems.push(Problem::outside(format!("there is no schema '{name}'"), help));
        return Ok(found);
    }
    match intent.action {
        Action::Append => {
            may_append(session, intent, &mut found.problems)?;
            let here = condition(session, intent.table);
            // What triggers, rules and policies do is seen in rows that are moved. The size is a guess, since whoever asks for it
            // waits for those who have the table locked.
            let bytes = session.one(&format!(
                "SELECT greatest(c.relpages::bigint * 8192, \
                 (pg_stat_get_live_tuples(c.oid) + pg_stat_get_dead_tuples(c.oid)) * 100) FROM pg_class c WHERE {here} AND c.relkind = 'r' AND NOT c.relrowsecurity \
                 AND NOT c.relhastriggers AND NOT c.relhasrules"
            ))?;
            if let Some(bytes) = bytes.and_then(|bytes| bytes.parse::<u64>().ok()) {
                found.adding = Adding::Straight { least_input: bytes.div_ceil(MOST_TIMES) };
            }
        }
        Action::Refill => {
            may_append(session, intent, &mut found.problems)?;
            may_refill(session, intent, &mut found.problems)?;
        }
        Action::Create => may_make(session, intent, &mut found.problems)?,
        Action::Replace => {
            may_make(session, intent, &mut found.problems)?;
            may_replace(session, intent, &mut found)?;
        }
    }
    Ok(found)
}

/// A question whose answer is to be yes, and what it means where it is no.
fn ask(
    session: &mut PostgresSession,
    sql: &str,
    problems: &mut Vec<Problem>,
    what: impl Into<String>,
    help: impl Into<Remedy>,
) -> Result<(), TargetError> {
    if session.one(sql)?.as_deref() != Some("t") {
        problems.push(Problem::outside(what, help));
    }
    Ok(())
}

fn may_make(
    session: &mut PostgresSession,
    intent: &Intent<'_>,
    problems: &mut Vec<Problem>,
) -> Result<(), TargetError> {
    let (schema, user) = (session.schema(), session.url.user.clone());
    ask(
        session,
        &format!("SELECT has_schema_privilege({schema}, 'CREATE')"),
        problems,
        format!("the user '{user}' may not make tables there"),
        format!("GRANT CREATE ON SCHEMA … TO {}", Postgres.identifier(&user)),
    )?;
    let wanted = sql::define(&Postgres, intent.schema, "", intent.table).types;
    for named in wanted {
        if let Found::Foreign(what) = types::look(session, &named, intent.table)? {
            problems.push(Problem::new(
                format!("'{}' {what}", named.name),
                Remedy::of("load into a table of another name with {table}, or rename the column"),
            ));
        }
    }
    Ok(())
}

fn may_append(
    session: &mut PostgresSession,
    intent: &Intent<'_>,
    problems: &mut Vec<Problem>,
) -> Result<(), TargetError> {
    let (here, user) = (condition(session, intent.table), session.url.user.clone());
    let table = intent.table;
    let identifier = Postgres.identifier(&user);
    ask(
        session,
        "SELECT has_database_privilege(current_database(), 'TEMP')",
        problems,
        format!("the user '{user}' may not make temporary tables there"),
        format!("GRANT TEMPORARY ON DATABASE … TO {identifier}"),
    )?;
    ask(
        session,
        // 8 is the right place of insertions; rules and triggers of a view do not count, since they do what they like.
        &format!(
            "SELECT c.relkind IN ('r', 'p', 'f') OR pg_relation_is_updatable(c.oid, false) & 8 = 8 FROM pg_class c WHERE {here}"
        ),
        problems,
        format!("'{table}' is no table, and no view that the server puts rows into by itself"),
        Remedy::of("name another with {table}"),
    )?;
    for (right, columns) in [
        ("INSERT", intent.columns().collect::<Vec<_>>()),
        ("SELECT", intent.columns().collect()),
        ("UPDATE", intent.updated().collect()),
    ] {
        let list: Vec<_> = columns.iter().map(|name| Postgres.literal(name)).collect();
        if list.is_empty() {
            continue;
        }
        let lacking = session.names(&format!(
                "SELECT a.attname FROM pg_class c JOIN pg_attribute a ON a.attrelid = c.oid AND NOT a.attisdropped \
                 WHERE {here} AND a.attname IN ({}) AND NOT has_column_privilege(c.oid, a.attnum, '{right}') \
                 ORDER BY a.attnum",
                list.join(", ")
            ))?;
        if lacking.is_empty() {
            continue;
        }
        let of = match lacking.len() == columns.len() {
            true => String::new(),
            false => format!(" for {}", listed(&lacking)),
        };
        problems.push(Problem::outside(
            format!("the user '{user}' lacks the right {right} on '{table}'{of}"),
            format!("GRANT {right} ON {} TO {identifier}", Postgres.identifier(table)),
        ));
    }
    Ok(())
}

/// Whether all rows of a table can be removed, and no others with them.
fn may_refill(
    session: &mut PostgresSession,
    intent: &Intent<'_>,
    problems: &mut Vec<Problem>,
) -> Result<(), TargetError> {
    let (here, user, table) =
        (condition(session, intent.table), session.url.user.clone(), intent.table);
    let identifier = Postgres.identifier(&user);
    ask(
        session,
        &format!("SELECT has_table_privilege(c.oid, 'DELETE') FROM pg_class c WHERE {here}"),
        problems,
        format!("the user '{user}' lacks the right DELETE on '{table}'"),
        format!("GRANT DELETE ON {} TO {identifier}", Postgres.identifier(table)),
    )?;
    ask(
        session,
        &format!("SELECT c.relkind IN ('r', 'p', 'f') FROM pg_class c WHERE {here}"),
        problems,
        format!("'{table}' is not a table, and only the rows of one can be exchanged"),
        Remedy::of("name the table behind it with {table}"),
    )?;
    // Of a table with policies only those rows would go that the user sees.
    ask(
        session,
        &format!("SELECT NOT row_security_active(c.oid) FROM pg_class c WHERE {here}"),
        problems,
        format!("'{table}' has policies, under which '{user}' may not see all of its rows"),
        "load as its owner, or as a user who bypasses row security",
    )?;
    let along = session.names(&format!(
        "SELECT DISTINCT o.relname FROM pg_class c JOIN pg_constraint k ON k.confrelid = c.oid AND k.contype = 'f' \
         AND k.confdeltype IN ('c', 'n', 'd') JOIN pg_class o ON o.oid = k.conrelid WHERE {here} ORDER BY 1"
    ))?;
    problems.extend(rows_go_along(table, &along));
    Ok(())
}

fn may_replace(
    session: &mut PostgresSession,
    intent: &Intent<'_>,
    found: &mut Objections,
) -> Result<(), TargetError> {
    let (here, user) = (condition(session, intent.table), session.url.user.clone());
    let table = intent.table;
    ask(
        session,
        &format!(
            "SELECT bool_and(pg_has_role(c.relowner, 'USAGE') AND c.relkind = 'r') FROM pg_class c WHERE {here}"
        ),
        &mut found.problems,
        format!("'{table}' is not a table that '{user}' owns, and only that can be replaced"),
        Remedy::of("load as its owner, or with {mode = append}"),
    )?;
    let hanging = session.names(&format!(
            "SELECT DISTINCT o.relname FROM pg_class c JOIN pg_depend d ON d.refobjid = c.oid \
             JOIN pg_rewrite w ON d.classid = 'pg_rewrite'::regclass AND w.oid = d.objid \
             JOIN pg_class o ON o.oid = w.ev_class AND o.oid <> c.oid WHERE {here} \
             UNION SELECT o.relname FROM pg_class c JOIN pg_constraint k ON k.confrelid = c.oid AND k.conrelid <> c.oid \
             JOIN pg_class o ON o.oid = k.conrelid WHERE {here} \
             UNION SELECT o.relname FROM pg_class c JOIN pg_inherits i ON i.inhparent = c.oid \
             JOIN pg_class o ON o.oid = i.inhrelid WHERE {here} ORDER BY 1"
        ))?;
    if !hanging.is_empty() {
        let verb = if hanging.len() == 1 { "depends" } else { "depend" };
        found.problems.push(Problem::new(
            format!("{} {verb} on '{table}', which therefore cannot be dropped", listed(&hanging)),
            Remedy::of(
                "pass {mode = append}, or drop what depends on it and make it again afterwards",
            ),
        ));
    }
    // Whoever reads it would see more of it than they may.
    let policies = session.counts(&format!(
        "SELECT (SELECT count(*) FROM pg_policy p WHERE p.polrelid = c.oid), \
                (c.relrowsecurity OR c.relforcerowsecurity)::int FROM pg_class c WHERE {here}"
    ))?;
    if policies.iter().any(|count| *count > 0) {
        let policies = counted(policies[0], "policy").replace("policys", "policies");
        found.problems.push(Problem::new(
            format!("'{table}' is protected by row security ({policies}), which a new table would not have"),
            Remedy::of("pass {mode = refill}: it exchanges the rows, and keeps the table and what protects it"),
        ));
    }
    let parents = session.names(&format!(
        "SELECT o.relname FROM pg_class c JOIN pg_inherits i ON i.inhrelid = c.oid \
         JOIN pg_class o ON o.oid = i.inhparent WHERE {here} ORDER BY 1"
    ))?;
    if !parents.is_empty() {
        found.problems.push(Problem::new(
            format!("'{table}' is a part of {}, which a new table would not be", listed(&parents)),
            Remedy::of(
                "pass {mode = refill}: it exchanges the rows, and keeps the table where it is",
            ),
        ));
    }
    let there = session.names(&format!(
        "SELECT a.attname FROM pg_class c JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped \
         WHERE {here} ORDER BY a.attnum"
    ))?;
    found.notes.extend(columns_go_along(there, intent.columns()));
    let counts = session.counts(&format!(
        "SELECT (SELECT count(*) FROM pg_index i WHERE i.indrelid = c.oid AND NOT i.indisprimary), \
                (SELECT count(*) FROM pg_trigger t WHERE t.tgrelid = c.oid AND NOT t.tgisinternal), \
                (SELECT count(*) FROM aclexplode(c.relacl) a WHERE a.grantee <> c.relowner), \
                (SELECT count(*) FROM pg_constraint k WHERE k.conrelid = c.oid AND k.contype = 'c'), \
                (SELECT count(*) FROM pg_constraint k WHERE k.conrelid = c.oid AND k.contype = 'f'), \
                (SELECT count(*) FROM pg_attrdef d WHERE d.adrelid = c.oid), \
                (SELECT count(*) FROM pg_publication_rel p WHERE p.prrelid = c.oid) \
         FROM pg_class c WHERE {here}"
    ))?;
    found.notes.extend(goes_along(
        counts,
        [
            "further index",
            "trigger",
            "granted right",
            "check",
            "foreign key",
            "default",
            "publication",
        ],
    ));
    Ok(())
}
