//! What is printed for senders.

use super::*;

fn of(text: &str) -> Source {
    let docs = parse_file("pier.yaml", text).expect("is YAML");
    Source::check(&docs[0]).expect("is a source")
}

fn printed(text: &str, titles: &[&str]) -> String {
    let lines = of(text).sender_lines();
    let shown = lines.iter().filter(|line| titles.iter().any(|title| line.title.contains(title)));
    let shown = shown.map(|line| format!("# {}\n{}", line.title, line.text));
    shown.collect::<Vec<_>>().join("\n")
}

#[test]
fn each_kind_of_source_says_what_is_typed_for_it() {
    let webhook = |credential: &str, more: &str| {
        format!("source: pier\nintake: {{ webhook: {{ credential: {credential}{more} }} }}\n")
    };
    let said = [
        printed(&webhook("{ bearer: \"${secret('p')}\" }", ""), &["One message"]),
        printed(
            &(webhook("{ basic: { user: pier, password: \"${secret('p')}\" } }", ", body: lines")
                + "read: { kind: '\"k\"', resource: '\"r/x\"' }"),
            &["One message"],
        ),
        printed(
            &webhook("[{ header: { name: X-Pier, value: \"${secret('p')}\" } }]", ", body: json"),
            &["One message"],
        ),
        printed(
            "source: pier\nintake: { cloudevents: { credential: { bearer: \"${secret('p')}\" } } }",
            &["One message"],
        ),
        printed(
            "source: hosts\nintake: { syslog: { udp: '127.0.0.1:5514', tcp: '127.0.0.1:5514' } }",
            &[""],
        ),
        printed(
            "source: nightly\nintake: { heartbeat: { credential: { bearer: \"${secret('p')}\" }, after: 26h } }",
            &[""],
        ),
    ];
    insta::assert_snapshot!(said.join("\n"), @r#"
    # One message
    curl --silent --show-error --header "Authorization: Bearer $KEY" --header 'Content-Type: application/json' --data-binary '{"kind": "disk.usage", "severity": "major", "resource": "vm/quill-booking-db-1", "summary": "the disk is 91 % full"}' '{address}/in/pier'
    # One message
    curl --silent --show-error --user "pier:$KEY" --header 'Content-Type: text/plain; charset=utf-8' --data-binary 'quill-booking-db-1 warn: 91 % full' '{address}/in/pier'
    # One message
    curl --silent --show-error --header "x-pier: $KEY" --header 'Content-Type: application/json' --data-binary '{"kind": "disk.usage", "severity": "major", "resource": "vm/quill-booking-db-1", "summary": "the disk is 91 % full"}' '{address}/in/pier'
    # One message
    curl --silent --show-error --header "Authorization: Bearer $KEY" --header 'Content-Type: application/cloudevents+json' --data-binary '{"specversion": "1.0", "id": "1", "source": "/piers/brack", "type": "berth.blocked"}' '{address}/in/pier'
    # A line of syslog
    logger --server 127.0.0.1 --port 5514 --tcp --octet-count --tag boiler --priority daemon.err 'pressure below 1 bar'
    # A line of syslog
    logger --server 127.0.0.1 --port 5514 --udp --tag boiler --priority daemon.err 'pressure below 1 bar'
    # When it has run
    curl --silent --fail --retry 3 --header "Authorization: Bearer $KEY" '{address}/in/nightly/SENDER'
    # A job of cron
    30 2 * * * run-the-job && curl --silent --fail --retry 3 --output /dev/null --header "Authorization: Bearer $KEY" '{address}/in/nightly/SENDER'
    "#);
    let clock = of("source: clock\nintake: { schedule: { cron: '0 * * * *' } }");
    assert!(clock.sender_lines().is_empty());
    let signed = of(&webhook("{ standard_webhooks: \"${secret('p')}\" }", ""));
    let titles: Vec<String> = signed.sender_lines().into_iter().map(|line| line.title).collect();
    assert_eq!(titles, ["A script that tries again, for Python"]);
}
