//! Words in rows: the database holds those of the enums and no other, and statements compare with
//! those alone.

use crate::kit::{Published, block, by_hand, rows, rule};
use arvok_api::{
    CallState, DecisionState, OutgoingState, ProposalState, StepState, WriteBackState,
};
use arvok_core::{
    AlertState, JobId, Principal, PrincipalKind, Role, Trial, Verdict,
    alarm::AlarmAct,
    job::{JobEffect, JobState},
    plan::Omission,
    words::Words,
};
use arvok_store::{jobs, read, runners::calls::RunnerCallState, timers::TimerKind};
use sea_orm::ConnectionTrait;
use std::{
    collections::{BTreeMap, BTreeSet},
    path::{Path, PathBuf},
};

fn words<T: Words>() -> BTreeSet<String> {
    T::ALL.iter().map(|word| word.as_str().to_owned()).collect()
}

/// The columns that hold words, each with the list of them.
fn columns() -> BTreeMap<&'static str, BTreeSet<String>> {
    [
        ("alerts.state", words::<AlertState>()),
        ("alerts.trial", words::<Trial>()),
        ("verdicts.verdict", words::<Verdict>()),
        ("alarm.state", words::<AlertState>()),
        ("alarm_act.act", words::<AlarmAct>()),
        ("alarm_act.sending", words::<WriteBackState>()),
        ("job.state", words::<JobState>()),
        ("job.effect", words::<JobEffect>()),
        ("job.trial", words::<Trial>()),
        ("job_change.state", words::<JobState>()),
        ("job_change.was", words::<JobState>()),
        ("attempt.state", words::<StepState>()),
        ("proposal.state", words::<ProposalState>()),
        ("proposal.trial", words::<Trial>()),
        ("decision.state", words::<DecisionState>()),
        ("outgoing.state", words::<OutgoingState>()),
        ("call.ended", words::<CallState>()),
        ("timer.kind", words::<TimerKind>()),
        ("plan_omission.why", words::<Omission>()),
        ("token.role", words::<Role>()),
        ("runner_call.state", words::<RunnerCallState>()),
    ]
    .into()
}

/// The texts between single quotes.
fn quoted(text: &str) -> BTreeSet<String> {
    text.split('\'').skip(1).step_by(2).map(str::to_owned).collect()
}

#[test]
fn columns_of_words_hold_those_of_the_enums_and_no_other() {
    let published = Published::with(&[]);
    block(async {
        let sql =
            "SELECT r.relname || '.' || a.attname AS name, pg_get_constraintdef(c.oid) AS text
            FROM pg_constraint c JOIN pg_class r ON r.oid = c.conrelid
            JOIN pg_attribute a ON a.attrelid = r.oid AND a.attnum = c.conkey[1]
            WHERE c.conname LIKE '%_word' AND r.relname !~ '[0-9]$' ORDER BY 1";
        let found = rows(&published.db, sql).await;
        let text =
            |row: &serde_json::Value, key: &str| row[key].as_str().expect("a text").to_owned();
        let held: BTreeMap<String, BTreeSet<String>> =
            found.iter().map(|row| (text(row, "name"), quoted(&text(row, "text")))).collect();
        let wanted = columns().into_iter().map(|(name, words)| (name.to_owned(), words)).collect();
        assert_eq!(held, wanted);
        // The tables of single days have them as well.
        let sql = "SELECT count(*) AS n FROM pg_constraint WHERE conname = 'alerts_state_word'
            AND NOT conislocal";
        assert_ne!(rows(&published.db, sql).await[0]["n"], 0);
    });
}

#[test]
fn who_did_something_is_a_kind_that_the_core_knows_and_an_id() {
    let published = Published::with(&[]);
    block(async {
        let db = &published.db;
        let sql = "SELECT string_agg(table_name || '.' || column_name, ' ' ORDER BY table_name,
                column_name) AS names
            FROM information_schema.columns WHERE domain_name = 'principal'";
        assert_eq!(
            rows(db, sql).await[0]["names"],
            "alarm_act.by audit.by call.by decision.decided_by definition.published_by halt.by \
             host_key.trusted_by job.launched_by job.seen_by mute.by \
             mute.lifted_by plan_omission.by proposal.decided_by runner.added_by secret_approval.approved_by"
        );
        let sql = "SELECT pg_get_constraintdef(oid) AS text FROM pg_constraint
            WHERE conname = 'principal_kind'";
        let kinds = PrincipalKind::ALL.map(PrincipalKind::as_str).join("|");
        let held = rows(db, sql).await[0]["text"].to_string();
        assert!(held.contains(&format!("'^({kinds})/.'")), "{held}");
        for text in ["pat", "token/", "robot/pat", "/pat"] {
            let wrong = format!("INSERT INTO halt (by, reason) VALUES ('{text}', '')");
            let refused = db.execute_unprepared(&wrong).await.expect_err("refuses").to_string();
            assert!(refused.contains("principal_kind"), "{text}: {refused}");
            assert!(text.parse::<Principal>().is_err(), "{text}");
        }
    });
}

#[test]
fn a_word_that_this_build_does_not_know_is_an_error_that_says_so() {
    let published = Published::with(&[rule("any", "")]);
    block(async {
        published.jobs(2).await;
        let db = &published.db;
        by_hand(
            db,
            "ALTER TABLE job DROP CONSTRAINT job_state_word;
            UPDATE job SET state = 'dreaming' WHERE id = 1",
        )
        .await;
        let wrong = read::job(db, 1).await.expect_err("it cannot be read").to_string();
        assert!(wrong.contains("`dreaming` is no job state that this build knows"), "{wrong}");
        assert!(read::job(db, 2).await.expect("reads").is_some(), "the other can");
        // It is in nobody's way: whoever claims passes over it.
        let claimed =
            jobs::claim(db, jobs::Search { node: "a", several: 9, ..jobs::Search::default() })
                .await;
        assert_eq!(
            claimed.expect("finds").jobs.iter().map(|job| job.id).collect::<Vec<_>>(),
            [JobId(2)]
        );
    });
}

/// All files below a folder with one of these endings.
fn files(below: &Path, endings: &[&str], found: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(below).expect("a folder") {
        let path = entry.expect("an entry").path();
        if path.is_dir() {
            files(&path, endings, found);
        } else if path.extension().is_some_and(|e| endings.iter().any(|ending| e == *ending)) {
            found.push(path);
        }
    }
}

/// What a text compares columns of words with: `state = 'x'`, `state <> 'x'`, `state IN ('x',
/// 'y')`, by the column's name.
fn compared(text: &str) -> Vec<(&'static str, String)> {
    let mut all = Vec::new();
    for column in ["state", "effect", "verdict", "ended", "role"] {
        for (at, _) in text.match_indices(column) {
            let is_word = |c: char| c.is_ascii_alphanumeric() || c == '_';
            if text[..at].chars().next_back().is_some_and(is_word) {
                continue;
            }
            let behind = text[at + column.len()..].trim_start();
            let behind = behind.strip_prefix("NOT ").unwrap_or(behind);
            let one = behind.strip_prefix("= '").or_else(|| behind.strip_prefix("<> '"));
            match (one, behind.strip_prefix("IN (")) {
                (Some(one), _) => {
                    all.extend(one.split('\'').next().map(|word| (column, word.to_owned())))
                }
                (_, Some(list)) => {
                    let list = list.split(')').next().unwrap_or_default();
                    all.extend(quoted(list).into_iter().map(|word| (column, word)));
                }
                _ => {}
            }
        }
    }
    all
}

#[test]
fn statements_compare_with_words_of_the_enums_alone() {
    let store = Path::new(env!("CARGO_MANIFEST_DIR"));
    let mut all = Vec::new();
    files(&store.join("src"), &["rs"], &mut all);
    files(&store.join("sql"), &["sql"], &mut all);
    let mut known: BTreeMap<&str, BTreeSet<String>> = BTreeMap::new();
    for (name, words) in columns() {
        known.entry(name.split('.').nth(1).expect("a column")).or_default().extend(words);
    }
    let mut seen = 0;
    for file in all {
        for (column, word) in compared(&std::fs::read_to_string(&file).expect("a file")) {
            if !word.starts_with(|c: char| c.is_ascii_lowercase()) {
                continue; // A variable of the same name.
            }
            seen += 1;
            assert!(
                known[column].contains(&word),
                "{}: `{column}` is never `{word}`",
                file.display()
            );
        }
    }
    assert!(seen > 100, "{seen}");
}

#[test]
fn statements_ask_for_sets_of_states_that_the_core_names() {
    let sets = [
        JobState::BEGUN,
        JobState::FINAL,
        JobState::OPEN,
        JobState::ENDED_BADLY,
        JobState::GRAVE,
        JobState::UNDER_WAY,
        JobState::GOES_ON,
        JobState::EXECUTED,
        JobState::WITH_PEOPLE,
    ];
    let set = |states: &[JobState]| states.iter().map(|s| s.as_str()).collect::<BTreeSet<_>>();
    let named: Vec<BTreeSet<&str>> = sets.into_iter().map(set).collect();
    let store = Path::new(env!("CARGO_MANIFEST_DIR"));
    let mut all = Vec::new();
    files(&store.join("src"), &["rs"], &mut all);
    files(&store.join("sql"), &["sql"], &mut all);
    let lists = regex::Regex::new(r"state\s+(?:NOT\s+)?IN\s*\(\s*('[^)]*)\)").expect("a pattern");
    let mut seen = 0;
    for file in all {
        let text = std::fs::read_to_string(&file).expect("a file");
        for list in lists.captures_iter(&text) {
            let asked: BTreeSet<&str> =
                list[1].split('\'').skip(1).step_by(2).collect::<BTreeSet<_>>();
            if !asked.iter().all(|word| JobState::parse(word).is_some()) {
                continue; // Of something else.
            }
            seen += 1;
            assert!(named.contains(&asked), "{}: {asked:?}", file.display());
        }
    }
    assert!(seen > 20, "{seen}");
}

#[test]
fn the_database_takes_the_changes_of_a_state_that_the_core_knows_and_no_other() {
    let published = Published::with(&[rule("any", "")]);
    block(async {
        published.jobs(1).await;
        let db = &published.db;
        for (from, to) in
            JobState::ALL.into_iter().flat_map(|from| JobState::ALL.map(|to| (from, to)))
        {
            by_hand(db, &format!("UPDATE job SET state = '{from}' WHERE id = 1")).await;
            let changed =
                db.execute_unprepared(&format!("UPDATE job SET state = '{to}' WHERE id = 1")).await;
            assert_eq!(changed.is_ok(), from == to || from.may_become(to), "{from} to {to}");
            if let Err(refused) = changed {
                let words = format!("job 1 was {from} and cannot become {to}");
                assert!(refused.to_string().contains(&words), "{refused}");
            }
        }
    });
}
