//! Jobs.

use super::{Table, between, count, exact, trial_mark, when, with_next};
use arvok_api::{
    Attempt, DecisionState, GoesOn, JobDetail, JobItem, JobPart, JobStep, Page, StepState,
};

/// What people did to a job, but for launching it, which is told otherwise.
fn acts(d: &JobDetail) -> impl Iterator<Item = String> + '_ {
    d.acts.iter().filter(|act| act.act != "job.launched").map(|act| {
        let detail = act.detail.as_ref().map_or_else(String::new, |detail| format!(": {detail}"));
        format!(
            "  {:10}  by {}, {}{detail}",
            act.act.replace("job.", ""),
            act.by.shown(),
            exact(act.at)
        )
    })
}

/// What its calls have changed, by step.
fn touched(d: &JobDetail) -> impl Iterator<Item = String> + '_ {
    let same_step = d.touched.chunk_by(|a, b| a.place == b.place);
    same_step.map(|touched| {
        let resources: Vec<&str> = touched.iter().map(|t| t.resource.as_str()).collect();
        let (place, at) = (&touched[0].place, exact(touched[0].at));
        format!("  touched     {} by {place}, {at}", resources.join(", "))
    })
}

/// A list of jobs.
pub fn jobs(page: &Page<JobItem>) -> String {
    let mut table =
        Table::new(&["job", "dispatched", "runbook", "target", "state", "effect", "took", "doing"]);
    for j in &page.items {
        table.row([
            j.id.to_string(),
            when(j.created_at),
            j.runbook.clone(),
            j.target.clone(),
            if j.trial.is_some() { format!("{} (trial)", j.state) } else { j.state.to_string() },
            j.effect.map_or_else(|| "not known".into(), |e| e.to_string()),
            between(j.started_at, j.finished_at),
            if j.effect.is_some_and(|e| e.as_str() == j.doing) {
                String::new()
            } else {
                j.doing.clone()
            },
        ]);
    }
    with_next(table.text("No jobs."), page)
}

/// The effect in words.
pub fn effect(j: &JobItem) -> String {
    j.effect.map_or_else(|| "not known yet".into(), |e| e.to_string())
}

/// A line of a job's steps.
#[derive(Clone, Copy, Debug)]
pub struct Row<'a> {
    /// How deep it stands.
    pub depth: usize,
    /// What it tells.
    pub line: Line<'a>,
}

/// What a line tells.
#[derive(Clone, Copy, Debug)]
pub enum Line<'a> {
    /// A step.
    Step(&'a JobStep),
    /// The name of steps within one or beside a job's own, and whether they are gone.
    Part(&'a str, Gone),
    /// How many items of a list are not told.
    LeftOut(usize),
}

/// Whether the steps of a part are gone.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Gone {
    /// They are, or were.
    Taken,
    /// Others were instead.
    NotTaken,
    /// That is not decided yet.
    Undecided,
}

/// The steps line by line. Of branches that were not taken only the name is told.
pub fn rows(detail: &JobDetail) -> Vec<Row<'_>> {
    let mut rows = Vec::new();
    steps(&detail.steps, 0, &mut rows);
    // The proof has a line of its own.
    detail
        .further
        .iter()
        .filter(|p| p.taken && p.label != "confirm")
        .for_each(|p| part(p, 0, false, &mut rows));
    rows
}

fn steps<'a>(all: &'a [JobStep], depth: usize, rows: &mut Vec<Row<'a>>) {
    for step in all {
        rows.push(Row { depth, line: Line::Step(step) });
        let undecided = step.state == StepState::Next;
        step.parts
            .iter()
            .filter(|p| p.taken || p.label != "undo")
            .for_each(|p| part(p, depth + 1, undecided, rows));
        if step.left_out > 0 {
            rows.push(Row { depth: depth + 1, line: Line::LeftOut(step.left_out) });
        }
    }
}

fn part<'a>(part: &'a JobPart, depth: usize, undecided: bool, rows: &mut Vec<Row<'a>>) {
    let gone = match (part.taken, undecided) {
        (true, _) => Gone::Taken,
        (false, true) => Gone::Undecided,
        (false, false) => Gone::NotTaken,
    };
    rows.push(Row { depth, line: Line::Part(&part.label, gone) });
    if part.taken {
        steps(&part.steps, depth + 1, rows);
    }
}

/// One step with its last try.
pub fn step_line(step: &JobStep) -> String {
    let took = step
        .attempts
        .last()
        .map_or_else(String::new, |a| between(Some(a.started_at), a.finished_at));
    format!("{} {took}", step_line_untimed(step)).trim_end().to_owned()
}

/// The same without how long it has taken, which changes all the time.
pub fn step_line_untimed(step: &JobStep) -> String {
    let mark = match step.state {
        StepState::Done => "■",
        StepState::Running => "▶",
        StepState::Failed => "✗",
        StepState::Unsure => "?",
        StepState::Again => "↻",
        StepState::Waiting => "…",
        StepState::Stopped => "◼",
        StepState::Next | StepState::NotRun | StepState::Skipped => "□",
    };
    let tries = if step.attempts.len() > 1 {
        format!(", {} tries", step.attempts.len())
    } else {
        String::new()
    };
    let title = step.summary.as_deref().unwrap_or(&step.id);
    let job = step.job.map_or_else(String::new, |job| format!(", job {job}"));
    format!("{mark} {title} [{} {}] {}{tries}{job}", step.kind, step.place, step.state)
}

fn compact(value: &serde_json::Value) -> String {
    let text = value.to_string();
    let cut = arvok_core::text::cut(&text, 84);
    if cut.len() < text.len() { format!("{cut}…") } else { text }
}

/// The name of steps within one or beside a job's own.
pub fn part_line(name: &str, gone: Gone) -> String {
    match gone {
        Gone::Taken => format!("{name}:"),
        Gone::NotTaken => format!("not taken: {name}"),
        Gone::Undecided => format!("not decided yet: {name}"),
    }
}

/// What a condition saw, in a line.
fn saw(a: &Attempt) -> Option<String> {
    let saw = a.saw.as_ref()?.as_object()?;
    let each = saw.iter().map(|(what, value)| match value {
        serde_json::Value::Null => format!("{what} is missing or null"),
        value => format!("{what} is {value}"),
    });
    Some(each.collect::<Vec<_>>().join(", "))
}

/// Of what is being written, so many of the last lines are shown.
const LIVE_SHOWN: usize = 10;

/// Whether something is sent for a step, which may have to wait for its turn.
fn is_call(step: &JobStep) -> bool {
    matches!(step.kind.as_str(), "call" | "script")
}

fn tries(step: &JobStep, indent: &str) -> Vec<String> {
    let telling =
        |v: &serde_json::Value| !v.is_null() && v.as_object().is_none_or(|m| !m.is_empty());
    let one = |a: &Attempt| {
        // What a script reads is shown with what was sent.
        let (given, word) = match step.kind.as_str() {
            "script" => (a.give.get("env"), "env  "),
            _ => (Some(&a.give), "given"),
        };
        let given =
            given.filter(|g| telling(g)).map(|g| format!("{indent}    {word}  {}", compact(g)));
        let sent = a.request.as_ref().map(|r| {
            let body = r.body.as_ref().map_or_else(String::new, |b| format!(" {}", compact(b)));
            // What waits for its turn has not gone out yet.
            let waits = step.state == StepState::Waiting && is_call(step) && a.answer.is_none();
            let sent = match (r.unsent, waits) {
                (true, _) => "would send",
                (false, true) => "will send",
                (false, false) => "sent  ",
            };
            let via = r.via.as_ref().map_or_else(String::new, |via| format!(", via {via}"));
            format!("{indent}    {sent} {} {}{body}{via}", r.method, r.target)
        });
        let answer = a.answer.as_ref().map(|answer| {
            // Where all went well, what it gave tells it.
            let body = Some(&answer.body).filter(|body| telling(body) && a.output.is_none());
            let body = body.map_or_else(String::new, |body| format!(" {}", compact(body)));
            let by = a.request.as_ref().map_or("", |request| request.method.as_str());
            match (by, answer.status) {
                ("SSH" | "SCRIPT", u16::MAX) => format!("{indent}    ended  by force{body}"),
                ("SSH" | "SCRIPT", status) => format!("{indent}    ended  {status}{body}"),
                ("NETCONF", _) => format!("{indent}    answer{body}"),
                ("MQTT" | "AMQP" | "ARVOK", _) => {
                    format!("{indent}    answer {}", compact(&answer.body))
                }
                (_, status) => format!("{indent}    answer {status}{body}"),
            }
        });
        let live = a.live.as_ref().map(|live| {
            let lines: Vec<&str> = live.lines.lines().collect();
            let last = &lines[lines.len().saturating_sub(LIVE_SHOWN)..];
            last.iter().map(|line| format!("{indent}    writes {line}")).collect::<Vec<_>>()
        });
        let live = live.map(|lines| lines.join("\n"));
        let saw = saw(a).map(|saw| format!("{indent}    saw    {saw}"));
        let gave = a.output.as_ref().filter(|o| telling(o)).map(|o| {
            // What was not sent gave nothing: this stands for it.
            let unsent = a.request.as_ref().is_some_and(|request| request.unsent);
            let word = if unsent { "as if it gave" } else { "gave  " };
            format!("{indent}    {word} {}", compact(o))
        });
        let error = a.error.as_ref().map(|e| format!("{indent}    error  {e}"));
        [given, sent, live, answer, saw, gave, error].into_iter().flatten()
    };
    step.attempts.iter().flat_map(one).collect()
}

/// Alerts of a gathering that are shown beside the first.
const GATHERED_SHOWN: usize = 10;

/// How a job would go on from where another failed.
pub fn goes_on(would: &GoesOn) -> String {
    let mut lines: Vec<String> = would
        .stand
        .iter()
        .map(|id| match would.looked_at.contains(id) {
            true => format!("  ■ {id} stands, if its probe says so"),
            false => format!("  ■ {id} stands"),
        })
        .collect();
    lines.push(format!("  ▶ {} is where it begins", would.from));
    lines.join("\n")
}

/// One job.
pub fn job(d: &JobDetail) -> String {
    let j = &d.job;
    let mut lines = vec![
        format!("Job {}: {} on {}, {}{}", j.id, j.runbook, j.target, j.state, trial_mark(j.trial)),
        format!("  runbook     {} version {}", j.runbook, j.runbook_version),
        format!("  urgency     {}", j.urgency),
        format!("  dispatched  {}", exact(j.created_at)),
    ];
    lines.extend(j.started_at.map(|t| format!("  started     {}", exact(t))));
    lines.extend(j.finished_at.map(|t| format!("  finished    {}", exact(t))));
    lines.extend(d.alert.as_ref().map(|a| format!("  alert       {}: {}", a.seq, a.summary)));
    // The first of a gathering stands above.
    let others = d.gathered.iter().filter(|a| Some(a.seq) != j.alert);
    lines.extend(
        others.take(GATHERED_SHOWN).map(|a| format!("  and for     {}: {}", a.seq, a.summary)),
    );
    let more =
        (d.gathered.len().saturating_sub(1)).saturating_sub(GATHERED_SHOWN) + d.gathered_more;
    if more > 0 {
        lines.push(format!("  and for     {}", count(more, "more alert")));
    }
    lines.extend(j.parent.map(|p| format!("  step of     job {p}")));
    lines.extend(j.rule.as_ref().map(|r| format!("  rule        {r}")));
    lines.extend(d.reason.as_ref().map(|r| format!("  reason      {r}")));
    lines.extend(j.failure.as_ref().map(|f| format!("  failure     {f}")));
    if let Some(held) = &j.held {
        let until = held.until.map(|until| format!(", until {}", exact(until)));
        let until = until.unwrap_or_default();
        lines.push(format!("  held        by guard {} since {}", held.guard, exact(held.since)));
        lines.push(format!("              {}{until}", held.why));
    }
    lines.extend(d.goes_on_as.map(|job| format!("  goes on     as job {job}")));
    lines.extend(
        d.seen
            .as_ref()
            .map(|seen| format!("  seen        by {}, {}", seen.by.shown(), exact(seen.at))),
    );
    lines.extend(touched(d));
    lines.extend(acts(d));
    if let Some(inputs) = d.inputs.as_object().filter(|inputs| !inputs.is_empty()) {
        lines.push("\nInputs".into());
        lines.extend(inputs.iter().map(|(k, v)| format!("  {k:12}  {}", compact(v))));
    }
    lines.push("\nSteps".into());
    for row in rows(d) {
        let indent = "  ".repeat(row.depth + 1);
        match row.line {
            Line::Step(step) => {
                lines.push(format!("{indent}{}", step_line(step)));
                lines.extend(tries(step, &indent));
            }
            Line::Part(name, gone) => lines.push(format!("{indent}{}", part_line(name, gone))),
            Line::LeftOut(items) => {
                lines.push(format!("{indent}{items} more, none of them open or failed"))
            }
        }
    }
    for open in d.decisions.iter().filter(|o| o.state == DecisionState::Open) {
        let choices = open.choices.iter().map(|c| c.name.as_str()).collect::<Vec<_>>().join(" or ");
        lines.push(format!(
            "\nDecision {} is open, asked of {}, until {}: {}",
            open.id,
            open.to,
            exact(open.until),
            open.text
        ));
        lines.push(format!("  decide with `arvok decision take {} <choice>`: {choices}", open.id));
    }
    let how = d.confirm.as_ref().map_or_else(String::new, |c| format!(" ({c})"));
    let proof = d.further.iter().filter(|p| p.label == "confirm").flat_map(|p| &p.steps);
    let saw = proof
        .filter_map(|step| step.attempts.last())
        .find_map(saw)
        .map_or_else(String::new, |saw| format!("; saw {saw}"));
    lines.push(format!("\nEffect: {}{how}{saw}", effect(j)));
    if let Some(outputs) = d.outputs.as_ref().filter(|o| !o.is_null()) {
        lines.push(format!("Outputs: {}", compact(outputs)));
    }
    lines.join("\n")
}
