//! `arvok rule`: why, rehearsals, verdicts, versions, examples.

use super::{alerts::payload, definitions, list::list};
use crate::{
    args::{Against, Output, RuleCommand, Server},
    client::Client,
    error::{CliError, file as fault},
    show,
};
use arvok_api::{
    Draft, FileText, RehearsalLine, RehearsalRequest, RehearsalResult, VerdictFilter, Why,
    WhyRequest,
};
use arvok_core::{
    Alert, AlertId, Catalog, Problem,
    document::parse_file,
    rehearse::{Rehearsal, written_alert},
    rule::{NotOne, Rule, only_rule},
};
use chrono::TimeDelta;
use serde_json::Value;
use std::{
    io::{IsTerminal, Write},
    path::{Path, PathBuf},
};

pub async fn rule(command: RuleCommand) -> Result<(), CliError> {
    match command {
        RuleCommand::Named(named) => definitions::named("rule", named).await,
        RuleCommand::Why { of, alert, file, rule, server, output } => {
            let (text, name) = named_or_file(&of, rule)?;
            let given = file.as_deref().map(json).transpose()?;
            let request = WhyRequest { rule: name, text: text.map(|f| f.text), alert, given };
            let why: Why = Client::of(&server)?.post("/api/v1/why", &request).await?;
            printed(&output, &why, || show::why(&why))
        }
        RuleCommand::Rehearse { of, since, alerts, against, rule, server, output } => {
            rehearse(&of, since, alerts, against, rule, &server, &output).await
        }
        RuleCommand::Verdicts { rule, verdict, resource, paging, server, output } => {
            let verdict = super::word(verdict.as_deref())?;
            let filter = VerdictFilter { rule, verdict, resource, ..VerdictFilter::default() };
            list(
                &Client::of(&server)?,
                "/api/v1/verdicts",
                &filter,
                (&paging, output),
                show::verdicts,
            )
            .await
        }
        RuleCommand::Example { from_alert, rule, into, server } => {
            let path = format!("/api/v1/alerts/{from_alert}/example");
            let draft: Draft = Client::of(&server)?.get(&path, &[("rule", rule)]).await?;
            match into {
                None => show::out(&draft.text),
                Some(path) => {
                    add_example(&path, &draft)?;
                    show::notice(&format!(
                        "arvok: added to {}; `arvok check` plays it",
                        path.display()
                    ));
                }
            }
            Ok(())
        }
        RuleCommand::Draft { from_alert, server } => {
            let draft: Draft = Client::of(&server)?
                .get(&format!("/api/v1/alerts/{from_alert}/draft"), &[])
                .await?;
            show::out(&draft.text);
            Ok(())
        }
    }
}

/// Adds an example to the file of its rule, behind those that it has.
fn add_example(path: &Path, draft: &Draft) -> Result<(), CliError> {
    let text = std::fs::read_to_string(path).map_err(|e| fault(path, e))?;
    let more =
        with_example(&path.display().to_string(), &text, draft).map_err(|e| fault(path, e))?;
    std::fs::write(path, more).map_err(|e| fault(path, e))
}

/// The file's text with one more example of a rule.
fn with_example(file: &str, text: &str, draft: &Draft) -> Result<String, String> {
    let documents = parse_file(file, text).map_err(|p| p.to_string())?;
    let rule = documents.iter().find(|d| d.kind == "rule" && Some(&d.name) == draft.rule.as_ref());
    let rule = rule
        .ok_or_else(|| format!("holds no rule `{}`", draft.rule.as_deref().unwrap_or_default()))?;
    let begins = text.find(&rule.text).ok_or("the rule's text cannot be found")?;
    let (before, after) = (&text[..begins], &text[begins + rule.text.len()..]);
    let lines: Vec<&str> = rule.text.lines().collect();
    let item = draft.text.lines().skip_while(|l| !l.starts_with("examples:")).skip(1);
    let at = match lines.iter().position(|l| l.starts_with("examples:")) {
        None => lines.len(),
        Some(at) if lines[at].trim_end() == "examples:" => {
            let inside = |l: &&str| l.starts_with([' ', '-', '#']) || l.trim().is_empty();
            at + 1 + lines[at + 1..].iter().take_while(|l| inside(l)).count()
        }
        Some(_) => {
            return Err(
                "the rule's `examples` stand on one line; write them as a list of lines first"
                    .into(),
            );
        }
    };
    let new = (!lines.iter().any(|l| l.starts_with("examples:"))).then_some("examples:");
    let kept = lines[..at].iter().copied();
    let whole: Vec<&str> = kept.chain(new).chain(item).chain(lines[at..].iter().copied()).collect();
    let whole = format!("{before}{}\n{after}", whole.join("\n"));
    parse_file(file, &whole).map(|_| whole).map_err(|p| p.to_string())
}

fn printed<T: serde::Serialize>(
    output: &Output,
    value: &T,
    text: impl Fn() -> String,
) -> Result<(), CliError> {
    if output.json {
        return show::json(value);
    }
    show::out(&text());
    Ok(())
}

/// What RULE means: a file that is there, or else a published rule.
fn named_or_file(
    of: &str,
    rule: Option<String>,
) -> Result<(Option<FileText>, Option<String>), CliError> {
    let path = Path::new(of);
    let looks = of.contains('/') || [".yaml", ".yml", ".json"].iter().any(|e| of.ends_with(e));
    if !path.is_file() && !looks {
        return Ok((None, Some(of.to_owned())));
    }
    let text = std::fs::read_to_string(path).map_err(|e| fault(path, e))?;
    Ok((Some(FileText { file: of.to_owned(), text }), rule))
}

fn json(path: &Path) -> Result<Value, CliError> {
    serde_json::from_slice(&payload(path)?).map_err(|e| fault(path, format!("is not JSON: {e}")))
}

/// The alerts of a file of JSON lines, as they are written.
fn lines(path: &Path) -> Result<Vec<Value>, CliError> {
    let text = String::from_utf8(payload(path)?).map_err(|e| fault(path, e))?;
    let read = text.lines().enumerate().filter(|(_, l)| !l.trim().is_empty());
    read.map(|(i, line)| {
        let value = serde_json::from_str(line);
        value.map_err(|e| CliError::Here(format!("{}:{}: is not JSON: {e}", path.display(), i + 1)))
    })
    .collect()
}

async fn rehearse(
    of: &str,
    since: String,
    alerts: Option<PathBuf>,
    against: Option<Against>,
    rule: Option<String>,
    server: &Server,
    output: &Output,
) -> Result<(), CliError> {
    let (file, name) = named_or_file(of, rule)?;
    let given = alerts.as_deref().map(lines).transpose()?;
    let result = match (&file, &given, &alerts) {
        (Some(file), Some(given), Some(path)) if against.is_none() => {
            here(file, name.as_deref(), given, path)?
        }
        _ => {
            let request = RehearsalRequest {
                file,
                rule: name,
                since: given.is_none().then_some(since),
                against_published: against.is_some(),
                alerts: given,
            };
            there(&Client::of(server)?, &request).await?
        }
    };
    printed(output, &result, || show::rehearsal(&result))
}

/// Without a server: the same code, over the given alerts.
fn here(
    file: &FileText,
    name: Option<&str>,
    given: &[Value],
    path: &Path,
) -> Result<RehearsalResult, CliError> {
    let rule = rule_of(file, name)?;
    let alerts = given.iter().enumerate().map(|(i, value)| {
        written_alert(value, i + 1)
            .map_err(|e| CliError::Here(format!("{}:{}: {e}", path.display(), i + 1)))
    });
    let mut alerts: Vec<Alert> = alerts.collect::<Result<_, _>>()?;
    alerts.sort_by_key(|a| a.received);
    let (Some(from), Some(last)) =
        (alerts.first().map(|a| a.received), alerts.last().map(|a| a.received))
    else {
        return Err(CliError::Here(format!("{}: holds no alerts", path.display())));
    };
    let to = last + TimeDelta::hours(1);
    let unknown = Catalog::default();
    let mut rehearsal = Rehearsal::new(&rule, &unknown);
    rehearsal.begin(from);
    for (i, alert) in alerts.into_iter().enumerate() {
        rehearsal.feed(AlertId(i as i64 + 1), alert).map_err(|e| CliError::Here(e.to_string()))?;
    }
    let now = (&rehearsal.finish(to)).into();
    Ok(RehearsalResult { rule: rule.name.clone(), from, to, now, before: None, difference: None })
}

fn rule_of(file: &FileText, name: Option<&str>) -> Result<Rule, CliError> {
    let shown = |problems: &[Problem]| {
        problems.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n")
    };
    only_rule(&file.file, &file.text, name).map_err(|e| match e {
        NotOne::Faulty(problems) => CliError::Here(shown(&problems)),
        NotOne::None => CliError::Here(format!("{}: holds no such rule", file.file)),
        NotOne::Many(names) => {
            let choice = names.join(" or --rule ");
            CliError::Usage(format!(
                "{} holds {} rules; say --rule {choice}",
                file.file,
                names.len()
            ))
        }
    })
}

/// On the server, with progress on standard error.
async fn there(client: &Client, request: &RehearsalRequest) -> Result<RehearsalResult, CliError> {
    let mut response = client.post_stream("/api/v1/rehearsals", request).await?;
    let broken =
        |e: reqwest::Error| CliError::Unreachable(format!("the server stopped answering: {e}"));
    let mut rest = Vec::new();
    while let Some(chunk) = response.chunk().await.map_err(broken)? {
        rest.extend_from_slice(&chunk);
        while let Some(end) = rest.iter().position(|b| *b == b'\n') {
            let line: Vec<u8> = rest.drain(..=end).collect();
            let line = serde_json::from_slice(&line).map_err(|e| {
                CliError::Refused(format!("the server's answer is not as expected: {e}"))
            })?;
            match line {
                RehearsalLine::Progress { alerts, of, .. } => progress(alerts, of),
                RehearsalLine::Result(result) => {
                    progress_over();
                    return Ok(*result);
                }
                RehearsalLine::Failed { detail } => {
                    progress_over();
                    return Err(CliError::Refused(detail));
                }
            }
        }
    }
    Err(CliError::Unreachable("the server stopped answering before the end".into()))
}

fn progress(alerts: u64, of: Option<u64>) {
    let mut err = std::io::stderr();
    if err.is_terminal() {
        let of = of.map_or_else(String::new, |of| format!(" of {of}"));
        let _ = write!(err, "\r{alerts}{of} alerts");
        let _ = err.flush();
    }
}

fn progress_over() {
    let mut err = std::io::stderr();
    if err.is_terminal() {
        let _ = write!(err, "\r{:40}\r", "");
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn examples_are_added_one_after_the_other_whatever_else_the_file_holds() {
        let file = "# disks\nrule: disks\ndispatch: { runbook: grow }\n---\nrule: other\ndispatch: \
            { runbook: grow }\n";
        let example = |at: &str| Draft {
            text: format!(
                "# For rule disks.\nexamples:\n  - given:\n      - {{ at: {at} }}\n    expect: []\n"
            ),
            rule: Some("disks".into()),
        };
        let once = with_example("f.yaml", file, &example("0s")).expect("is added");
        let twice = with_example("f.yaml", &once, &example("1s")).expect("is added");
        insta::assert_snapshot!(twice, @r#"
        # disks
        rule: disks
        dispatch: { runbook: grow }
        examples:
          - given:
              - { at: 0s }
            expect: []
          - given:
              - { at: 1s }
            expect: []
        ---
        rule: other
        dispatch: { runbook: grow }
        "#);
        let flow = file.replace("grow }\n---", "grow }\nexamples: []\n---");
        let wrong = with_example("f.yaml", &flow, &example("0s")).expect_err("refused");
        assert!(wrong.contains("stand on one line"), "{wrong}");
        let wrong = with_example("f.yaml", "rule: a\n", &example("0s")).expect_err("refused");
        assert_eq!(wrong, "holds no rule `disks`");
    }
}
