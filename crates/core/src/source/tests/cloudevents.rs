//! CloudEvents in each mode, read by the lines that stand for their format.

use super::*;

fn events(headers: Value, raw: &str) -> ReadOutcome {
    let source = of_format("{ cloudevents: { credential: { bearer: \"${secret('pier')}\" } } }")
        .expect("checks");
    read_of(&source, headers, raw)
}

fn read_of(source: &Source, headers: Value, raw: &str) -> ReadOutcome {
    let properties = Map::from_iter([(HEADERS.to_owned(), headers)]);
    let received = DateTime::UNIX_EPOCH;
    source.read(&Delivery {
        raw: raw.as_bytes(),
        properties: &properties,
        received,
        fallback_id: "d1",
        normal: false,
    })
}

fn event(more: Value) -> Value {
    let mut event = json!({"specversion": "1.0", "id": "e-7", "source": "/piers/brack",
        "type": "com.skerrow.berth.taken"});
    for (name, value) in more.as_object().into_iter().flatten() {
        event[name] = value.clone();
    }
    event
}

const STRUCTURED: &str = "application/cloudevents+json; charset=utf-8";

#[test]
fn an_event_is_read_in_each_mode() {
    let structured = event(
        json!({"subject": "berth 4", "time": "2026-11-27T20:00:00Z", "severitytext": "ERROR",
        "data": {"vessel": "Quill"}}),
    );
    let outcome = events(json!({"content-type": STRUCTURED}), &structured.to_string());
    let line = "com.skerrow.berth.taken events/piers-brack/berth-4 major noted \
        2026-11-27T20:00:00Z \
        | com.skerrow.berth.taken: berth 4 |";
    assert_eq!(lines(&outcome), [line]);
    assert_eq!(outcome.alerts[0].id, "/piers/brack e-7");
    assert_eq!(outcome.alerts[0].body, structured);

    let headers = json!({"content-type": "application/json", "ce-specversion": "1.0",
        "ce-id": "e-7",
        "ce-source": "/piers/brack", "ce-type": "com.skerrow.berth.taken",
            "ce-subject": "berth%204",
        "ce-time": "2026-11-27T20:00:00Z", "ce-severitytext": "ERROR"});
    let outcome = events(headers, r#"{"vessel": "Quill"}"#);
    assert_eq!(
        lines(&outcome),
        [line],
        "headers are attributes, percent-encoded, and the body is the data"
    );
    assert_eq!(outcome.alerts[0].body["data"], json!({"vessel": "Quill"}));

    let batch =
        json!([event(json!({})), {"specversion": "1.0", "id": "e-8"}, event(json!({"id": "e-9"}))]);
    let outcome =
        events(json!({"content-type": "application/cloudevents-batch+json"}), &batch.to_string());
    let plain = "com.skerrow.berth.taken events/piers-brack indeterminate noted \
        1970-01-01T00:00:00Z \
        | com.skerrow.berth.taken |";
    let bad = r#"item 1 not read: source: is missing | {"specversion":"1.0","id":"e-8"}"#;
    assert_eq!(
        lines(&outcome),
        [plain, plain, bad],
        "one that is none does not keep the others out"
    );
}

#[test]
fn data_is_what_its_type_says() {
    let of = |headers: Value, raw: &str| {
        let mut all =
            json!({"ce-specversion": "1.0", "ce-id": "1", "ce-source": "s", "ce-type": "t"});
        for (name, value) in headers.as_object().into_iter().flatten() {
            all[name] = value.clone();
        }
        let outcome = events(all, raw);
        outcome
            .alerts
            .first()
            .map(|a| a.body.clone())
            .ok_or_else(|| outcome.unreadable[0].reason.clone())
    };
    assert_eq!(of(json!({"content-type": "text/plain"}), "full").expect("reads")["data"], "full");
    assert_eq!(of(json!({}), "").expect("reads").get("data"), None, "an event may have no data");
    assert_eq!(
        of(json!({"content-type": "application/x+json"}), "[1]").expect("reads")["data"],
        json!([1])
    );
    let wrong = of(json!({"content-type": "application/json"}), "{").expect_err("is no JSON");
    assert!(wrong.starts_with("data: is not JSON"), "{wrong}");

    let of_base64 = |media: &str, text: &str| {
        let event = event(json!({"datacontenttype": media, "data_base64": text})).to_string();
        let outcome = events(json!({"content-type": STRUCTURED}), &event);
        outcome
            .alerts
            .first()
            .map(|a| a.body.clone())
            .ok_or_else(|| outcome.unreadable[0].reason.clone())
    };
    assert_eq!(
        of_base64("application/json", "eyJhIjoxfQ==").expect("reads")["data"],
        json!({"a": 1})
    );
    assert_eq!(
        of_base64("image/png", "/9j/").expect("reads")["data_base64"],
        "/9j/",
        "bytes that are no text stay"
    );
    assert_eq!(of_base64("image/png", "###").expect_err("none"), "data_base64: is not base64");
}

#[test]
fn what_is_no_event_says_why() {
    let structured = |event: Value| {
        lines(&events(json!({"content-type": STRUCTURED}), &event.to_string())).concat()
    };
    for (given, why) in [
        (json!([]), "is no CloudEvent: it is not an object"),
        (json!({"id": "1"}), "is no CloudEvent: it has no `specversion`"),
        (event(json!({"specversion": "0.3"})), "specversion: is `0.3`; 1.0 is read"),
        (event(json!({"type": ""})), "type: is not a text, or is empty"),
        (event(json!({"id": 7})), "id: is not a text, or is empty"),
        (event(json!({"time": "yesterday"})), "time: is not an RFC 3339 time"),
    ] {
        assert_eq!(structured(given), format!("not read: {why} | all of it"));
    }
    let of =
        |content_type: &str| lines(&events(json!({"content-type": content_type}), "{}")).concat();
    assert!(
        of("application/cloudevents+avro")
            .contains("in the format `+avro`, which is not read; send JSON")
    );
    assert!(of("application/json").contains("nor headers that begin with `ce-`"));
    let many: Vec<Value> = (0..1001).map(|_| event(json!({}))).collect();
    let outcome = events(
        json!({"content-type": "application/cloudevents-batch+json"}),
        &json!(many).to_string(),
    );
    assert_eq!(
        lines(&outcome),
        ["not read: the batch holds 1001 events; 1000 are allowed | all of it"]
    );
}

#[test]
fn one_event_of_a_batch_is_read_alone_when_it_is_read_again() {
    let alone = event(json!({})).to_string();
    let outcome = events(json!({"content-type": "application/cloudevents-batch+json"}), &alone);
    assert_eq!(outcome.alerts.len(), 1);
}

#[test]
fn lines_of_ones_own_see_the_event_and_a_batch_has_one_budget() {
    let text = "source: pier\nintake: { cloudevents: { credential: { bearer: \"${secret('pier')}\" \
        } } }\nread:\n  \
        each: event.data.berths\n  kind: event.type\n  resource: '\"berth/\" + string(item)'\n";
    let docs = parse_file("pier.yaml", text).expect("parses");
    let source = Source::check(&docs[0]).expect("checks");
    let batch = |events: usize| {
        let all: Vec<Value> = (0..events)
            .map(|n| event(json!({"id": n.to_string(), "data": {"berths": [1, 2]}})))
            .collect();
        read_of(
            &source,
            json!({"content-type": "application/cloudevents-batch+json"}),
            &json!(all).to_string(),
        )
    };
    let ids: Vec<_> = batch(2).alerts.into_iter().map(|a| a.id).collect();
    assert_eq!(ids, ["d1-0-0", "d1-0-1", "d1-1-0", "d1-1-1"], "each has an own id");
    assert_eq!(lines(&batch(501)), ["not read: holds more than 1000 alerts | all of it"]);

    let wrong = text.replace("event.type", "body.type");
    let docs = parse_file("pier.yaml", &wrong).expect("parses");
    let problems = Source::check(&docs[0]).expect_err("`body` is a name of another intake");
    assert!(problems[0].to_string().contains("body"), "{}", problems[0]);
}
