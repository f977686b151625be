//! What a flood, a slow sender or a heavy question can reach: its own refusal, and nobody else.

use crate::kit::{Stage, answer, block, until};
use reqwest::Method;
use serde_json::{Value, json};
use std::{
    io::{Read, Write},
    net::TcpStream,
    time::{Duration, Instant},
};

const NORMAL: &str = "application/vnd.arvok.alert+json";

fn together<T: Send>(many: usize, ask: impl Fn(usize) -> T + Sync) -> Vec<T> {
    std::thread::scope(|s| {
        let ask = &ask;
        let all: Vec<_> = (0..many).map(|n| s.spawn(move || ask(n))).collect();
        all.into_iter().map(|t| t.join().expect("an answer")).collect()
    })
}

fn viewer(stage: &Stage) -> String {
    let (status, made) = stage.call(
        Method::POST,
        "/api/v1/tokens",
        Some(&json!({"name": "looks", "role": "viewer"})),
    );
    assert_eq!(status, 201, "{made}");
    made["token"].as_str().expect("a token").to_owned()
}

/// A few hundred bytes that would make gigabytes, asked by somebody who may only look.
#[test]
fn a_file_that_unfolds_without_end_is_refused_before_it_does() {
    let stage = Stage::with_demo();
    let token = viewer(&stage);
    let text =
        format!("rule: a\nx: &a {}\ny: [{}]\n", "k".repeat(480_000), vec!["*a"; 99_000].join(","));
    let bodies = [
        (
            "/api/v1/why",
            json!({"rule": "a", "text": text, "given": {"source": "s", "kind": "a",
                "resource": "vm/a"}}),
        ),
        ("/api/v1/rehearsals", json!({"rule": "a", "text": text, "since": "1h"})),
        ("/api/v1/publish", json!({"files": [{"file": "a.yaml", "text": text}], "dry_run": true})),
    ];
    for (path, body) in bodies {
        let (status, said) = stage.call_as(&token, Method::POST, path, Some(&body));
        assert!((400..500).contains(&status), "{path}: {status} {said}");
    }
    let body = json!({"files": [{"file": "a.yaml", "text": text}]});
    let (status, said) = stage.call(Method::POST, "/api/v1/publish", Some(&body));
    assert_eq!(status, 422, "{said}");
    assert!(said["problems"][0]["message"].as_str().is_some_and(|m| m.contains("4 MiB")), "{said}");
    assert!(stage.most_memory() < 400, "{} MiB", stage.most_memory());
}

#[test]
fn heavy_questions_of_a_viewer_leave_the_doors_open() {
    let stage = Stage::with_demo();
    let token = viewer(&stage);
    let range = "[0,1,2,3,4,5,6,7,8,9]";
    let heavy = (0..12).fold("true".to_owned(), |inner, i| format!("{range}.all(x{i}, {inner})"));
    let text = format!(
        "rule: heavy\nlisten: {{ where: '{heavy}' }}\ndispatch: {{ runbook: grow-disk, inputs: {{ \
        vm: x/y }} }}\n"
    );
    let body = json!({"rule": "heavy", "text": text, "given": {"source": "s", "kind": "a",
        "resource": "vm/a"}});
    std::thread::scope(|s| {
        let asking = s.spawn(|| {
            together(24, |_| stage.call_as(&token, Method::POST, "/api/v1/why", Some(&body)))
        });
        for n in 0..20 {
            stage.send("yard-hypervisor", &json!({"kind": "a", "resource": format!("vm/n{n}")}));
        }
        for (status, said) in asking.join().expect("answers") {
            assert!(
                status == 200 && said.to_string().contains("20000 steps") || status == 429,
                "{status} {said}"
            );
        }
    });
}

#[test]
fn a_flood_of_large_deliveries_is_refused_before_it_fills_the_memory() {
    let stage = Stage::with_demo();
    let many: Vec<Value> = (0..1000)
        .map(|n| {
            json!({"kind": "test.flood", "resource": format!("vm/n{n}"),
            "labels": {"filler": "x".repeat(900)}})
        })
        .collect();
    let body = json!(many).to_string();
    assert!(body.len() > 900_000 && body.len() < 1 << 20, "{}", body.len());
    let answers = together(40, |_| {
        let request =
            stage.request(Method::POST, "/in/yard-hypervisor?trial=no").bearer_auth(&stage.token);
        let request = request.header("content-type", NORMAL).body(body.clone());
        let response = block(request.send()).expect("an answer");
        (response.status().as_u16(), response.headers().contains_key("retry-after"))
    });
    assert!(
        answers.iter().all(|(status, retry)| *status == 202 || (*status == 429 && *retry)),
        "{answers:?}"
    );
    assert!(answers.iter().any(|(status, _)| *status == 202));
    assert!(stage.most_memory() < 600, "{} MiB", stage.most_memory());
}

fn raw(stage: &Stage, text: &str) -> TcpStream {
    let mut stream =
        TcpStream::connect(stage.address.trim_start_matches("http://")).expect("connects");
    stream.set_read_timeout(Some(Duration::from_secs(40))).expect("set");
    stream.write_all(text.as_bytes()).expect("writes");
    stream
}

fn status(stream: &mut TcpStream) -> String {
    let mut head = [0; 12];
    stream.read_exact(&mut head).expect("an answer");
    String::from_utf8_lossy(&head[9..]).into_owned()
}

#[test]
fn a_sender_is_asked_who_it_is_before_its_body_and_may_not_take_for_ever() {
    let stage = Stage::with_demo();
    for path in ["/in/yard-hypervisor", "/api/v1/publish", "/api/v1/why"] {
        let mut stream = raw(
            &stage,
            &format!("POST {path} HTTP/1.1\r\nhost: a\r\ncontent-length: 1000\r\n\r\n"),
        );
        assert_eq!(status(&mut stream), "401", "{path}");
    }
    let token = &stage.token;
    let slow: Vec<_> = ["/in/yard-hypervisor", "/api/v1/publish"]
        .map(|path| {
            let head = format!(
                "POST {path} HTTP/1.1\r\nhost: a\r\nauthorization: Bearer \
                {token}\r\ncontent-type: application/json\r\ncontent-length: 1000\r\n\r\n{{"
            );
            raw(&stage, &head)
        })
        .into();
    for mut stream in slow {
        assert_eq!(status(&mut stream), "408");
    }
}

/// Searches that go through everything, over enough alerts that each takes a while.
#[test]
fn searches_without_end_starve_neither_the_intake_nor_the_leases() {
    let stage = Stage::with_demo();
    stage.records().run(
        "INSERT INTO alerts (source, id, received, time, kind, resource, severity, state, summary,
            labels, body)
        SELECT 'yard-hypervisor', 'f' || n, now(), now(), 'test.fill', 'vm/n' || n, 3, 'noted',
        repeat('word ', 40), '{}', '{}'
        FROM generate_series(1, 30000) n",
    );
    std::thread::scope(|s| {
        let searching = s.spawn(|| {
            together(120, |n| {
                stage.call(Method::GET, &format!("/api/v1/alerts?text=nowhere{n}"), None).0
            })
        });
        let begun = Instant::now();
        let mut taken = 0;
        while !searching.is_finished() && begun.elapsed() < Duration::from_secs(60) {
            stage.send("yard-hypervisor", &json!({"kind": "a", "resource": "vm/a"}));
            taken += 1;
        }
        for status in searching.join().expect("answers") {
            assert!([200, 429, 503].contains(&status), "{status}");
        }
        assert!(taken > 5, "only {taken} deliveries beside the searches");
    });
}

#[test]
fn a_wrong_path_or_method_is_never_mistaken_for_a_page() {
    let stage = Stage::with_demo();
    let send = |method: Method, path: &str| {
        answer(
            stage
                .request(method, path)
                .bearer_auth(&stage.token)
                .header("content-type", NORMAL)
                .body("{}"),
        )
    };
    for (method, path, wanted) in [
        (Method::POST, "/", 404),
        (Method::POST, "/alerts", 404),
        (Method::PUT, "/in/yard-hypervisor", 405),
        (Method::DELETE, "/in/yard-hypervisor", 405),
        (Method::GET, "/in/yard-hypervisor", 405),
        (Method::POST, "//in/yard-hypervisor", 404),
        (Method::POST, "/inn/yard-hypervisor", 404),
        (Method::POST, "/in/", 404),
        (Method::POST, "/in/yard-hypervisor/more", 404),
        (Method::TRACE, "/api/v1/alerts", 405),
        (Method::DELETE, "/api/v1/alerts/7", 405),
        (Method::PUT, "/api/v1/jobs", 405),
        (Method::PUT, "/api/v1/no-such", 404),
    ] {
        let (status, said) = send(method.clone(), path);
        assert_eq!(status, wanted, "{method} {path}: {said}");
        assert_eq!(said["status"], status, "{method} {path}: a problem document: {said}");
    }
    let (_, trace) = send(Method::TRACE, "/api/v1/jobs");
    assert_eq!(trace["detail"], "this takes GET, HEAD, POST only");
    assert_eq!(
        stage.get("/api/v1/jobs?state=&effect=")["items"],
        json!([]),
        "a word left empty says nothing"
    );
    let alert = json!({"kind": "a", "resource": "vm/a"}).to_string();
    let request = stage.request(Method::POST, "/in/yard-hypervisor/").bearer_auth(&stage.token);
    assert_eq!(
        answer(request.header("content-type", NORMAL).body(alert)).0,
        202,
        "a slash at the end does no harm"
    );
    assert_eq!(stage.get("/api/v1/alerts")["items"].as_array().map(Vec::len), Some(1));
}

#[test]
fn what_would_grow_without_end_is_swept_away() {
    let mut stage = Stage::with_demo();
    stage.kill_node();
    let records = stage.records();
    records.run(
        "INSERT INTO unreadable (source, received, reason, payload)
            SELECT 'yard-hypervisor', now() - interval '31 days', 'old', 'x'
            FROM generate_series(1, 50);
        INSERT INTO unreadable (source, received, reason, payload)
            SELECT 'yard-hypervisor', now(), 'flood', 'x' FROM generate_series(1, 1200);
        INSERT INTO delivery_count (source, minute, shard)
        VALUES ('yard-hypervisor', now() - interval '91 days', 0);
        INSERT INTO verdict_count (rule, verdict, hour, shard, count, last_at)
            SELECT 'old', 'folded', date_trunc('day', now() - interval '40 days',
            'UTC') + n * interval '1 hour', 0, 10, now()
            FROM generate_series(0, 47) n",
    );
    stage.start_node();
    stage.send(
        "yard-hypervisor",
        &json!({"kind": "never.raised", "resource": "vm/a", "state": "cleared"}),
    );
    records.run(
        "UPDATE alarm SET changed_at = now() - interval '2 days',
        told_at = now() - interval '2 days'",
    );
    until("the old to be gone", || {
        let left = records.rows(
            "SELECT (SELECT count(*) FROM unreadable) AS unreadable, (SELECT count(*)
                FROM alarm) AS alarms,
                (SELECT count(*) FROM delivery_count WHERE minute < now() - interval '1 day') AS
                counts,
                (SELECT array_agg(count ORDER BY hour) FROM verdict_count
                WHERE rule = 'old') AS days",
        );
        (left[0] == json!({"unreadable": 1000, "alarms": 0, "counts": 0, "days": [240, 240]}))
            .then_some(())
    });
}

/// Two hundred thousand alerts, of which the oldest is the one that is looked for.
#[test]
fn a_search_stops_at_a_bound_and_says_where_to_go_on() {
    let stage = Stage::with_demo();
    stage.publish(
        "runbook: note\ntarget: group/one\nsteps: [ { id: fine, require: 'true' } ]\n---\n\
         rule: rare\nlisten: { kinds: test.rare }\ndispatch: { runbook: note }\n",
    );
    let oldest =
        stage.send("yard-hypervisor", &json!({"kind": "test.rare", "resource": "vm/needle"}));
    stage.records().run(
        "INSERT INTO alerts (source, id, received, time, kind, resource, severity, state, summary,
            labels, body)
        SELECT 'yard-hypervisor', 'f' || n, now(), now(), 'test.fill', 'vm/n' || n, 3, 'noted',
        'hay', '{}', '{}'
        FROM generate_series(1, 200000) n",
    );
    let next = |page: &Value| {
        let found = page["items"].as_array().is_some_and(|i| !i.is_empty());
        let on = || {
            format!(
                "/api/v1/alerts?text=needle&after={}",
                page["next"].as_str().expect("where to go on")
            )
        };
        (!found).then(|| stage.get(&on()))
    };
    let pages: Vec<Value> =
        std::iter::successors(Some(stage.get("/api/v1/alerts?text=needle")), next).collect();
    let (last, before) = pages.split_last().expect("pages");
    assert_eq!((&last["items"][0]["seq"], pages.len()), (&json!(oldest), 5));
    assert!(before.iter().all(|page| page["bounded"] == true), "{before:?}");
    let said = stage.arvok(&["alert", "list", "--severity", "critical"]);
    assert!(said.out.contains("Older ones were not looked at; go on with --after"), "{}", said.out);
    // Where an index leads there, nothing stops.
    for path in [
        "/api/v1/alerts?resource=vm/needle",
        "/api/v1/alerts?rule=rare",
        "/api/v1/verdicts?rule=rare",
    ] {
        let page = stage.get(path);
        assert_eq!(
            (page["items"].as_array().map(Vec::len), &page["next"]),
            (Some(1), &Value::Null),
            "{path}: {page}"
        );
    }
}

/// What is counted as it happens is what a count of everything would find.
#[test]
fn verdicts_are_counted_as_they_change() {
    let mut stage = Stage::with_demo();
    stage.publish(
        "runbook: note\ntarget: group/one\nsteps: [ { id: fine, require: 'true' } ]\n---\n\
         rule: counted\nstance: act\nlisten: { kinds: test.counted }\nsettle: { fold: \
         [alert.resource], still: 700ms }\n\
         dispatch: { runbook: note }\n---\n\
         rule: looks-on\nlisten: { kinds: [ test.counted, test.seen ] }\nsettle: { still: 300ms \
         }\ndispatch: { runbook: note }\n",
    );
    stage.send(
        "yard-hypervisor",
        &json!({"kind": "test.seen", "resource": "vm/n", "severity": "major"}),
    );
    stage.send(
        "yard-hypervisor",
        &json!({"kind": "test.none", "resource": "vm/n", "severity": "major"}),
    );
    let all = together(40, |n| {
        let alert = json!({"kind": "test.counted", "resource": format!("vm/n{}", n % 8),
            "severity": "major"});
        stage.send("yard-hypervisor", &alert)
    });
    assert_eq!(all.len(), 40);
    until("all to be dispatched", || {
        let counts = stage.get("/api/v1/definitions/rule/counted")["verdicts"].clone();
        let of = |v: &str| counts.as_array()?.iter().find(|c| c["verdict"] == v)?["count"].as_i64();
        (of("dispatched") == Some(8)).then_some(())
    });
    let sql = |from: &str| {
        format!(
            "SELECT rule, verdict, {from} GROUP BY rule, verdict HAVING sum(n) <> 0
                ORDER BY rule, verdict"
        )
    };
    let records = stage.records();
    let counted = records
        .rows(&sql("sum(n) AS n FROM (SELECT rule, verdict, count AS n FROM verdict_count) c"));
    let found =
        records.rows(&sql("sum(n) AS n FROM (SELECT rule, verdict, 1 AS n FROM verdicts) v"));
    assert_eq!(counted, found);

    // Jobs by rule and runbook, and what became of them, also when connections have come and gone.
    let jobs = |from: &str| {
        records.rows(&format!("SELECT runbook, rule, {from} GROUP BY runbook, rule ORDER BY 1, 2"))
    };
    until("the effects to be counted", || {
        let counted = jobs("sum(jobs) AS jobs, sum(confirmed) AS confirmed FROM job_count");
        let found = jobs(
            "count(*) AS jobs, count(*) FILTER (WHERE effect = 'confirmed') AS confirmed FROM job",
        );
        (counted == found && !found.is_empty()).then_some(())
    });
    records.run("UPDATE job_count SET shard = -shard");
    stage.kill_node();
    stage.start_node();
    until("what a connection that is gone counted to be added up", || {
        let left = records.rows("SELECT 1 AS one FROM job_count WHERE shard < 0");
        left.is_empty().then_some(())
    });
    let found = jobs(
        "count(*) AS jobs, count(*) FILTER (WHERE effect = 'confirmed') AS confirmed FROM job",
    );
    assert_eq!(jobs("sum(jobs) AS jobs, sum(confirmed) AS confirmed FROM job_count"), found);

    // Each alert of others by the furthest that any rule took it: from every alert and every
    // verdict.
    let narrowing = stage.get("/api/v1/watch")["narrowing"].clone();
    let found = records.rows(
        "SELECT count(*) AS distinct, count(*) FILTER (WHERE how IS NULL) AS unmatched,
            count(how) AS matched,
            count(*) FILTER (WHERE how = 4) AS folded, count(*) FILTER (WHERE how = 5) AS held,
            count(*) FILTER (WHERE how = 3) AS watched, count(*) FILTER (WHERE how = 1) AS
            dispatched
        FROM (SELECT a.seq, min(how_far(v.verdict)) FILTER (WHERE v.verdict IS NOT NULL) AS how
        FROM alerts a LEFT JOIN verdicts v ON v.alert_seq = a.seq
            WHERE a.source <> 'arvok' GROUP BY a.seq) f",
    );
    for (part, n) in found[0].as_object().expect("counts") {
        assert_eq!(narrowing[part], *n, "{part}: {narrowing:#}\n{found:?}");
    }
}

/// Four hundred items, each with a step that makes some megabytes of text again and again.
fn heavy(stage: &Stage) {
    let long = "${inputs.text}${inputs.text}${inputs.text}${inputs.text}".repeat(200);
    let values: Vec<String> = (0..4).map(|n| format!("v{n}: '{long}'")).collect();
    stage.publish(&format!(
        "runbook: heavy\ninputs: {{ on: {{ type: string }}, text: {{ type: string }}, list: {{ \
        type: array }} }}\n\
         target: '${{inputs.on}}'\nsteps:\n  - id: all\n    each: inputs.list\n    as: item\n    \
         at_once: 50\n    steps:\n      \
         - {{ id: make, set: {{ {} }} }}\n",
        values.join(", ")
    ));
    stage.publish(
        "runbook: light\ninputs: { on: { type: string } }\ntarget: \
        '${inputs.on}'\nsteps: [ { id: a, set: { b: 1 } } ]\n",
    );
}

#[test]
fn a_runbook_that_evaluates_without_end_fails_by_name_and_its_neighbours_go_on() {
    let stage = Stage::bare();
    heavy(&stage);
    let launch = |runbook: &str, inputs: Value| {
        let body = json!({ "runbook": runbook, "inputs": inputs });
        let (status, made) = stage.call(Method::POST, "/api/v1/jobs", Some(&body));
        assert_eq!(status, 201, "{made}");
        made["job"].as_i64().expect("a number")
    };
    let list: Vec<u32> = (0..400).collect();
    let text = "x".repeat(2_000);
    let give = |n: usize| json!({ "on": format!("vm/h{n}"), "text": text, "list": list });
    let heavy: Vec<i64> = (0..16).map(|n| launch("heavy", give(n))).collect();
    let light: Vec<i64> =
        (0..60).map(|n| launch("light", json!({ "on": format!("vm/l{n}") }))).collect();
    for id in light {
        stage.job_in(id, &["succeeded"]);
    }
    for id in heavy {
        let job = stage.job_in(id, &["failed"]);
        let why = job["job"]["failure"].as_str().unwrap_or_default().to_owned();
        assert!(why.contains("all"), "{why}");
    }
    let unsure = stage.get("/api/v1/jobs?state=unsure");
    assert_eq!(unsure["items"], json!([]));
    assert!(stage.most_memory() < 700, "{} MiB", stage.most_memory());
}
