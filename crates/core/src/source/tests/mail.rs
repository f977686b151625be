//! Alerts that come as mail.

use super::*;

fn read_mail(intake: &str, message: &str) -> Vec<String> {
    let source = of_format(intake).expect("is a source");
    let properties = Map::from_iter([("recipient".to_owned(), json!("Alarms@skerrow.example"))]);
    let delivery = Delivery {
        raw: message.as_bytes(),
        properties: &properties,
        received: DateTime::UNIX_EPOCH,
        fallback_id: "d1",
        normal: false,
    };
    lines(&source.read(&delivery))
}

const MAIL: &str = "From: The boiler <Boiler@Skerrow.example>\r\nTo: alarms@skerrow.example\r\n\
    Subject: =?utf-8?q?pressure_below_1=C2=A0bar?=\r\nDate: Wed, 2 Dec 2026 01:30:00 +0100\r\n\
    Message-ID: <m-7@skerrow.example>\r\nX-Level: CRITICAL\r\n";

#[test]
fn a_message_is_read_by_its_default_or_by_lines_of_its_own() {
    let plain = format!("{MAIL}\r\nPressure: 0.8 bar\r\n");
    assert_eq!(
        read_mail("{ mail: { lmtp: '127.0.0.1:2525' } }", &plain),
        ["mail mail/boiler-skerrow.example indeterminate noted 2026-12-02T00:30:00Z | \
          pressure below 1\u{a0}bar |"]
    );
    let own = "{ mail: { lmtp: '127.0.0.1:2525' } }\nread:\n  kind: '\"boiler.\" + slug(headers[\"x-level\"])'\n  \
        resource: '\"boiler/\" + slug(from.split(\"@\")[0])'\n  value: text.split(\":\")[1]\n  \
        summary: 'recipient + \" \" + attachments[0].name + \" \" + attachments[0].text'\n";
    let parts = format!(
        "{MAIL}Content-Type: multipart/mixed; boundary=x\r\n\r\n--x\r\nContent-Type: text/html\r\n\r\n\
         <p>Pressure: <b>0.8</b> bar</p>\r\n--x\r\nContent-Type: text/csv; name=log.csv\r\n\
         Content-Disposition: attachment; filename=log.csv\r\n\r\na;b\r\n--x--\r\n"
    );
    assert_eq!(
        read_mail(own, &parts),
        ["boiler.CRITICAL boiler/boiler indeterminate raised 1970-01-01T00:00:00Z | \
          Alarms@skerrow.example log.csv a;b |"]
    );
}

#[test]
fn of_whom_nothing_is_taken_and_what_is_none_is_kept_with_the_reason() {
    let narrow = "{ mail: { lmtp: '127.0.0.1:2525', senders: ['*@piers.skerrow.example'] } }";
    let said = read_mail(narrow, &format!("{MAIL}\r\nx"));
    assert!(said[0].contains("is from `boiler@skerrow.example`"), "{said:?}");
    let none = read_mail("{ mail: { lmtp: '127.0.0.1:2525' } }", "");
    assert!(none[0].contains("is no message (RFC 5322)"), "{none:?}");
    for (intake, why) in [
        ("{ mail: { lmtp: here } }", "`here` is not an address and a port"),
        ("{ mail: { lmtp: '0.0.0.0:2525' } }", "LMTP has no proof of who delivers"),
        ("{ mail: { lmtp: '127.0.0.1:2525', to: [''] } }", "1 to 512 bytes"),
    ] {
        let said = of_format(intake).expect_err(intake);
        assert!(said.contains(why), "{intake}: {said}");
    }
    let source = of_format("{ mail: { lmtp: '127.0.0.1:2525', to: [alarms@skerrow.example] } }");
    let Intake::Mail(mail) = source.expect("is a source").intake else { panic!("mail") };
    assert!(mail.is_to("Alarms@Skerrow.example") && !mail.is_to("other@skerrow.example"));
}
