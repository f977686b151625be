//! What describing costs: a call through a described connector against the bare client's, the
//! import of a large description, and a large connector beside the checker.

use crate::{
    Fallible,
    summary::{Figure, Goal},
};
use arvok_connect::{Call, Drivers, Redactor, Way, http_client};
use arvok_core::{
    Catalog,
    catalog::{Observed, check_files},
    connector::{Connector, Opened, import},
    definition::Defined,
    document::parse_file,
};
use arvok_standins::yard::{self, YardOptions};
use serde_json::{Map, Value};
use std::{
    fmt::Write,
    time::{Duration, Instant},
};

/// Rounds, each with so many calls of either kind: what slows the machine down slows both.
const ROUNDS: usize = 12;
const CALLS: usize = 250;
const TOKEN: &str = "bench-token";

const HOSTS: &str = "connector: yard
operations:
  host.list:
    takes: { why: { type: string } }
    request: { method: GET, path: /v1/hosts, query: { why: '${give.why}' } }
    output: '{\"hosts\": response.body.hosts.map(h, h.name)}'
    gives: { hosts: { type: array, items: { type: string } } }
";

pub async fn figures() -> Fallible<Vec<Figure>> {
    Ok(vec![overhead().await?, large()?, beside_the_checker()?])
}

async fn overhead() -> Fallible<Figure> {
    let options = YardOptions {
        port: 0,
        token: TOKEN.into(),
        report_to: None,
        tick: Duration::from_secs(3600),
        seconds_a_tick: 0.0,
    };
    let yard = yard::start(options)?;
    let base = yard.url();
    let document = parse_file("yard.yaml", HOSTS).map_err(|p| p.to_string())?;
    let connector = Connector::check(&document[0]).map_err(|p| format!("{p:?}"))?;
    let (drivers, redactor) = (Drivers::new()?, Redactor::new([TOKEN.to_owned()]));
    let credential = Opened::Bearer(TOKEN.into());
    let give: Map<String, Value> = [("why".to_owned(), "bench".into())].into_iter().collect();
    let call = || Call {
        operation: &connector.operations["host.list"],
        give: &give,
        key: "bench",
        callback: None,
        way: Way { credential: Some(&credential), ..Way::to(&base, Duration::from_secs(5)) },
        within: None,
        redactor: &redactor,
    };
    let bare = http_client().timeout(Duration::from_secs(5)).build()?;
    let (mut described, mut plain) = (Duration::ZERO, Duration::ZERO);
    for round in 0..=ROUNDS {
        let begun = Instant::now();
        for _ in 0..CALLS {
            let asked =
                bare.get(format!("{base}/v1/hosts?why=bench")).bearer_auth(TOKEN).send().await?;
            let answer: Value = asked.error_for_status()?.json().await?;
            std::hint::black_box(answer);
        }
        let between = Instant::now();
        for _ in 0..CALLS {
            let output = drivers.call(call()).await.called.map_err(|failure| failure.message)?;
            std::hint::black_box(output);
        }
        // The first round opens connections.
        if round > 0 {
            plain += between - begun;
            described += between.elapsed();
        }
    }
    yard.stop().await;
    let each = |all: Duration| all.as_secs_f64() * 1e6 / (ROUNDS * CALLS) as f64;
    let goal = Goal::AtMost(1.3, "<= 1.3");
    Ok(Figure::new(
        "connect/call-overhead",
        (each(described), "us"),
        ("the bare client", each(plain)),
        goal,
    ))
}

/// A description with so many operations, each with a body and an answer of a shape of their own.
fn description(operations: usize) -> String {
    let mut text = String::from(
        "openapi: 3.1.0\ninfo: { title: Harbour, version: '1' }\nservers: [ { url: \
        http://127.0.0.1:1 } ]\npaths:\n",
    );
    for n in 0..operations {
        let _ = write!(
            text,
            "  /quays/{{quay}}/ships-{n}:\n    post:\n      operationId: moorShip{n}\n      \
            summary: Moors a ship of kind {n}\n      parameters:\n        - {{ name: quay, in: \
            path, required: true, schema: {{ type: string }} }}\n      requestBody:\n        \
            content:\n          application/json:\n            schema: {{ $ref: \
            '#/components/schemas/Ship' }}\n      responses:\n        '200':\n          \
            description: Moored\n          content: {{ application/json: {{ schema: {{ $ref: \
            '#/components/schemas/Ship' }} }} }}\n"
        );
    }
    text + "components:\n  schemas:\n    Ship:\n      type: object\n      required: [name]\n      \
        properties:\n        name: { type: string }\n        length: { type: number }\n        \
        crew: { type: array, items: { type: string } }\n        port: { type: object, properties: \
        { city: { type: string }, code: { type: string } } }\n"
}

/// What a person waits for, in seconds.
const PATIENCE: f64 = 5.0;

fn large() -> Fallible<Figure> {
    let text = description(1_000);
    let begun = Instant::now();
    let made = import(&text, None, &[])?;
    let took = begun.elapsed().as_secs_f64();
    if made.operations.iter().filter(|o| o.taken).count() != 1_000 {
        return Err("operations of the description were left out".into());
    }
    let goal = Goal::AtMost(1.0, "<= 5 s");
    Ok(Figure::new("import/large", (took, "s"), ("what is waited for", PATIENCE), goal))
}

/// How often a runbook is checked beside each connector.
const CHECKS: u32 = 400;

fn beside_the_checker() -> Fallible<Figure> {
    let few = checks_beside(5)?;
    let many = checks_beside(500)?;
    let goal = Goal::AtMost(1.3, "<= 1.3");
    Ok(Figure::new("import/500-checked", (many, "us"), ("beside five operations", few), goal))
}

/// Microseconds to check a runbook beside a connector with so many operations.
fn checks_beside(operations: usize) -> Fallible<f64> {
    let text = import(&description(operations), None, &[])?.text;
    let nothing = Observed::default();
    let standing = Catalog::new(
        check_files([("harbour.yaml", text.as_str())], &[], &Catalog::default(), &nothing).entries,
    );
    let runbook = "runbook: moor
inputs: { quay: { type: string } }
target: quay/one
steps:
  - { id: moor, call: moorShip3, via: harbour, give: { quay: '${inputs.quay}', name: Skerrow } }
outputs: { name: '${steps.moor.name}' }
";
    let begun = Instant::now();
    for _ in 0..CHECKS {
        let checked = check_files([("moor.yaml", runbook)], &[], &standing, &nothing);
        if let Some(problem) = checked.problems.first() {
            return Err(problem.to_string().into());
        }
    }
    Ok(begun.elapsed().as_secs_f64() * 1e6 / f64::from(CHECKS))
}
