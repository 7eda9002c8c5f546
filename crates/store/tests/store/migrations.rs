//! What a migration may do to records that are in use: nothing that keeps writers waiting for longer
//! than a caller has patience, on a table of a million rows.

use std::collections::HashSet;
use std::path::Path;

use sqlparser::ast::{
    AlterColumnOperation, AlterTableOperation, ColumnOption, Expr, Set, Statement, TableFactor, TableObject,
};
use sqlparser::dialect::PostgreSqlDialect;
use sqlparser::parser::{Parser, ParserError};
use sqlparser::tokenizer::{Token, Tokenizer};

/// Those before it made the tables while there was nothing in them.
const FIRST_IN_USE: u32 = 27;
/// Has a migration run outside of a transaction, as what is built beside writers has to.
const NO_TRANSACTION: &str = "-- no-transaction";
const LOCK_TIMEOUT: &str = "lock_timeout";

/// Why a migration is not run on records that are in use; nothing, if it may be.
fn fault(text: &str) -> Option<String> {
    let statements = match statements(text) {
        Ok(statements) => statements,
        Err(error) => return Some(format!("cannot be read: {error}")),
    };

    let mut made = HashSet::new();
    let mut is_patience_set = false;
    for statement in &statements {
        if let Statement::CreateTable(table) = statement {
            made.insert(table.name.to_string());
            continue;
        }
        is_patience_set |= sets_patience(statement);
        let why = match touched(statement) {
            _ if sets_patience(statement) => None,
            Some(table) if made.contains(&table) => None,
            _ if is_beside_writers(statement) => {
                let is_alone = statements.len() == 1 && text.starts_with(NO_TRANSACTION);
                (!is_alone).then(|| format!("has to be alone in its file, behind {NO_TRANSACTION:?}"))
            }
            _ => slow(statement).map(str::to_owned).or_else(|| {
                (!is_patience_set).then(|| format!("waits for others with all behind it: set {LOCK_TIMEOUT}"))
            }),
        };
        if let Some(why) = why {
            return Some(format!("{statement}: {why}"));
        }
    }
    None
}

/// Puts triggers in place, in words that the parser does not know.
const TRIGGER: &str = "CREATE OR REPLACE TRIGGER";

/// The statements of a migration, one by one.
fn statements(text: &str) -> Result<Vec<Statement>, ParserError> {
    let dialect = PostgreSqlDialect {};
    let tokens = Tokenizer::new(&dialect, text).tokenize()?;
    let each = tokens.split(|token| *token == Token::SemiColon);
    let each = each.map(|tokens| tokens.iter().map(Token::to_string).collect::<String>());
    let mut read = Vec::new();
    for statement in each {
        let bare = statement.lines().filter(|line| !line.starts_with("--")).collect::<Vec<_>>().join(" ");
        // What takes a moment is read as something else that does.
        let known = if bare.trim_start().starts_with(TRIGGER) { "DROP TRIGGER t ON t" } else { &bare };
        read.extend(Parser::parse_sql(&dialect, known)?);
    }
    Ok(read)
}

/// The table that a statement works on.
fn touched(statement: &Statement) -> Option<String> {
    match statement {
        Statement::AlterTable { name, .. } => Some(name.to_string()),
        Statement::CreateIndex(index) => Some(index.table_name.to_string()),
        Statement::Insert(insert) => match &insert.table {
            TableObject::TableName(name) => Some(name.to_string()),
            TableObject::TableFunction(_) => None,
        },
        Statement::Update { table, .. } => match &table.relation {
            TableFactor::Table { name, .. } => Some(name.to_string()),
            _ => None,
        },
        _ => None,
    }
}

/// Whether a statement says how long the ones after it wait for others.
fn sets_patience(statement: &Statement) -> bool {
    let Statement::Set(Set::SingleAssignment { variable, .. }) = statement else { return false };
    variable.to_string() == LOCK_TIMEOUT
}

fn is_beside_writers(statement: &Statement) -> bool {
    matches!(statement, Statement::CreateIndex(index) if index.concurrently)
}

/// Why a statement takes long while others wait for it, or is not known not to.
fn slow(statement: &Statement) -> Option<&'static str> {
    match statement {
        Statement::CreateIndex(_) => Some("keeps writers out until it is built: CONCURRENTLY does not"),
        Statement::AlterTable { operations, .. } => operations.iter().find_map(slow_change),
        Statement::Insert(_) | Statement::Update { .. } | Statement::Delete(_) => {
            Some("writes all rows at once: let the service do it in batches")
        }
        Statement::CreateFunction(_) | Statement::CreateTrigger(_) | Statement::CreateType { .. } => None,
        Statement::Drop { .. } | Statement::DropFunction { .. } | Statement::DropTrigger(_) => None,
        _ => Some("is not known to be quick"),
    }
}

fn slow_change(change: &AlterTableOperation) -> Option<&'static str> {
    match change {
        AlterTableOperation::AddColumn { column_def, .. } => {
            let options = column_def.options.iter().map(|option| &option.option);
            let is_quick = options.clone().all(|option| match option {
                ColumnOption::Null | ColumnOption::NotNull => true,
                ColumnOption::Default(value) => matches!(value, Expr::Value(_)),
                _ => false,
            });
            (!is_quick).then_some("looks at, or writes, each row: add it bare, with a constant at most")
        }
        AlterTableOperation::AddConstraint { not_valid, .. } => {
            (!not_valid).then_some("looks at each row: NOT VALID, and VALIDATE in a file of its own")
        }
        AlterTableOperation::AlterColumn { op, .. } => match op {
            AlterColumnOperation::DropNotNull
            | AlterColumnOperation::SetDefault { .. }
            | AlterColumnOperation::DropDefault => None,
            _ => Some("looks at, or writes, each row"),
        },
        AlterTableOperation::DropColumn { .. }
        | AlterTableOperation::DropConstraint { .. }
        | AlterTableOperation::ValidateConstraint { .. } => None,
        _ => Some("is not known to be quick"),
    }
}

#[test]
fn no_migration_keeps_writers_waiting() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("migrations");
    for entry in folder.read_dir().expect("a folder") {
        let path = entry.expect("a file").path();
        let name = path.file_name().and_then(|name| name.to_str()).expect("a name");
        let number: u32 = name.split('_').next().and_then(|number| number.parse().ok()).expect("a number");
        if number < FIRST_IN_USE {
            continue;
        }
        let text = std::fs::read_to_string(&path).expect("readable");
        assert_eq!(fault(&text), None, "{name}");
    }
}

#[test]
fn what_keeps_writers_waiting_is_told_and_what_does_not_passes() {
    let quick = [
        "CREATE TABLE marks (id uuid PRIMARY KEY); CREATE INDEX marks_id ON marks (id);
         INSERT INTO marks SELECT id FROM domains;",
        "SET LOCAL lock_timeout = '3s'; ALTER TABLE domains ADD COLUMN mark text, DROP COLUMN token;",
        "SET LOCAL lock_timeout = '3s'; ALTER TABLE domains ADD COLUMN mark int NOT NULL DEFAULT 0;",
        "SET LOCAL lock_timeout = '3s'; ALTER TABLE domains ADD CHECK (mark > 0) NOT VALID;",
        "SET LOCAL lock_timeout = '3s'; CREATE OR REPLACE TRIGGER seen AFTER INSERT ON domains FOR EACH ROW
             EXECUTE FUNCTION record_change('domain');",
        "-- no-transaction\nCREATE INDEX CONCURRENTLY domains_mark ON domains (mark);",
    ];
    for text in quick {
        assert_eq!(fault(text), None, "{text}");
    }

    let slow = [
        ("ALTER TABLE domains ADD COLUMN mark text;", LOCK_TIMEOUT),
        ("CREATE INDEX domains_mark ON domains (mark);", "CONCURRENTLY"),
        ("CREATE INDEX CONCURRENTLY domains_mark ON domains (mark);", NO_TRANSACTION),
        (
            "SET lock_timeout = '3s'; ALTER TABLE domains ADD COLUMN mark uuid DEFAULT gen_random_uuid();",
            "each row",
        ),
        ("SET lock_timeout = '3s'; ALTER TABLE domains ADD CHECK (mark > 0);", "NOT VALID"),
        ("SET lock_timeout = '3s'; ALTER TABLE domains ALTER COLUMN mark SET NOT NULL;", "each row"),
        ("SET lock_timeout = '3s'; ALTER TABLE domains ALTER COLUMN mark TYPE bigint;", "each row"),
        ("SET lock_timeout = '3s'; UPDATE domains SET mark = 1;", "batches"),
        ("SET lock_timeout = '3s'; LOCK TABLE domains;", ""),
        ("VACUUM FULL domains;", ""),
    ];
    for (text, why) in slow {
        let told = fault(text).unwrap_or_else(|| panic!("{text} passes"));
        assert!(told.contains(why), "{text}: {told}");
    }
}
