//! What each kind of sender needs to reach a source, as it would be typed or installed.

use super::{
    HttpIntake, Intake, SenderProof, SenderProofOf, SignatureEncoding, SignedPart, Source,
    TrapIntake, intake::SenderHmac,
};
use crate::{
    connector::{AgentCipher, AgentCredential, AgentDigest, Credential, CredentialOf},
    expr::Template,
};
use core::net::SocketAddr;
use serde_json::Value;

/// Stands for the address of the service in lines.
pub const ADDRESS: &str = "{address}";

/// What a notification tells in a line: the third link of a switch is down.
const LINK_DOWN: &str = "'' 1.3.6.1.6.3.1.1.5.3 1.3.6.1.2.1.2.2.1.1.3 i 3 \
    1.3.6.1.2.1.2.2.1.8.3 i 2";

/// Stands for the host of a broker.
pub const BROKER_HOST: &str = "{broker_host}";
/// Its port.
pub const BROKER_PORT: &str = "{broker_port}";
/// All of it.
pub const BROKER_URL: &str = "{broker_url}";

const SHELL: &str = include_str!("hooks/spool.sh");
const PYTHON: &str = include_str!("hooks/spool.py");

/// Something to type or to install.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SenderLine {
    /// What it is.
    pub title: String,
    /// The text, with [`ADDRESS`] for the address of the service.
    pub text: String,
}

impl SenderLine {
    fn new(title: &str, text: impl Into<String>) -> Self {
        Self { title: title.to_owned(), text: text.into() }
    }
}

impl Source {
    /// What its senders need. The secret of the source is `$KEY` in it, or the file of their
    /// certificate and its key; what keeps notifications private is `$PRIVACY_KEY`.
    pub fn sender_lines(&self) -> Vec<SenderLine> {
        match &self.intake {
            Intake::Webhook(webhook) => {
                let (content_type, example) = match webhook.example() {
                    (content_type, Some(example)) => (content_type, example),
                    (content_type, None) if self.has_lines => (content_type, "@message"),
                    (content_type, None) => (content_type, NORMAL),
                };
                self.posted(&webhook.http, content_type, example)
            }
            Intake::CloudEvents(http) => self.posted(http, "application/cloudevents+json", EVENT),
            Intake::Heartbeat(heartbeat) => {
                let url = format!("{ADDRESS}/in/{}/SENDER", self.name);
                let shown = in_words(&heartbeat.http).unwrap_or_default();
                vec![
                    SenderLine::new(
                        "When it has run",
                        format!("curl --silent --fail --retry 3 {shown}'{url}'"),
                    ),
                    SenderLine::new(
                        "A job of cron",
                        format!(
                            "30 2 * * * run-the-job && curl --silent --fail --retry 3 \
                            --output /dev/null {shown}'{url}'"
                        ),
                    ),
                ]
            }
            Intake::Syslog(syslog) => {
                let by_certificate = syslog.certificate.is_some();
                let lines = [("--tcp --octet-count", syslog.tcp), ("--udp", syslog.udp)];
                let tls = syslog.tls.map(|at| over_tls(at, by_certificate));
                let line = |(how, at): (&str, Option<SocketAddr>)| {
                    let at = at?;
                    Some(SenderLine::new(
                        "A line of syslog",
                        format!(
                            "logger --server {} --port {} {how} --tag boiler --priority daemon.err \
                            'pressure below 1 bar'",
                            at.ip(),
                            at.port()
                        ),
                    ))
                };
                lines.into_iter().filter_map(line).chain(tls).collect()
            }
            Intake::Mqtt(mqtt) => {
                let topic = mqtt.topics.first().map(String::as_str).unwrap_or_default();
                vec![SenderLine::new(
                    "One message",
                    format!(
                        "mosquitto_pub --protocol-version 5 --qos 1 --host {BROKER_HOST} \
                        --port {BROKER_PORT} --topic '{}' --message '{NORMAL}'",
                        topic.replace(['+', '#'], "quill")
                    ),
                )]
            }
            Intake::Amqp(amqp) => vec![SenderLine::new(
                "One message",
                format!(
                    "amqp-publish --url {BROKER_URL} --persistent --routing-key '{}' \
                    --body '{NORMAL}'",
                    amqp.queue
                ),
            )],
            Intake::Mail(mail) => vec![SenderLine::new(
                "One message, as a mail server delivers it",
                format!(
                    "python3 -c 'import smtplib; smtplib.LMTP(\"{}\", {}).sendmail(\
                    \"boiler@skerrow.example\", [\"{}\"], \"From: boiler@skerrow.example\\r\\n\
                    Subject: the boiler is cold\\r\\n\\r\\nBelow 1 bar.\\r\\n\")'",
                    mail.lmtp.ip(),
                    mail.lmtp.port(),
                    mail.example_recipient()
                ),
            )],
            Intake::Trap(trap) => notification_lines(trap),
            Intake::Schedule(_) | Intake::Poll(_) => Vec::new(),
        }
    }

    fn posted(&self, http: &HttpIntake, content_type: &str, example: &str) -> Vec<SenderLine> {
        let filled = |text: &str| {
            text.replace("{source}", &self.name).replace("{content_type}", content_type)
        };
        let mut lines = Vec::new();
        if let Some(shown) = in_words(http) {
            let example = example.replace('\'', r"'\''");
            lines.push(SenderLine::new(
                "One message",
                filled(&format!(
                    "curl --silent --show-error {shown}--header 'Content-Type: {{content_type}}' \
                    --data-binary '{example}' '{ADDRESS}/in/{{source}}'"
                )),
            ));
        }
        if let Some(shown) = http.proofs.first().and_then(for_config) {
            lines.push(SenderLine::new(
                "A script that tries again, for sh",
                filled(&SHELL.replace("{shown}", &shown)),
            ));
        }
        if let Some(proof) = http.proofs.first() {
            let identity = match proof {
                SenderProofOf::Certificate(_) => "CONTEXT.load_cert_chain(KEY)\n",
                _ => "",
            };
            lines.push(SenderLine::new(
                "A script that tries again, for Python",
                filled(
                    &PYTHON.replace("{proof}", &in_python(proof)).replace("{identity}", identity),
                ),
            ));
        }
        lines
    }
}

/// A message over TLS, framed by its octets: `logger` speaks none.
fn over_tls(at: SocketAddr, by_certificate: bool) -> SenderLine {
    let shown = if by_certificate { r#"-cert "$KEY" -key "$KEY" "# } else { "" };
    SenderLine::new(
        "A line of syslog over TLS",
        format!(
            "line='<27>1 - quill-boiler-1 boiler - - - pressure below 1 bar'; \
            printf '%s %s' \"$(printf %s \"$line\" | wc -c)\" \"$line\" | openssl s_client -quiet \
            -no_ign_eof -verify_return_error {shown}-connect {at}"
        ),
    )
}

/// An alert in the normal form, and an event.
const NORMAL: &str = r#"{"kind": "disk.usage", "severity": "major", "resource": "vm/quill-booking-db-1", "summary": "the disk is 91 % full"}"#;
const EVENT: &str =
    r#"{"specversion": "1.0", "id": "1", "source": "/piers/brack", "type": "berth.blocked"}"#;

/// A name as it is written, where nothing is filled in.
fn name_of(user: &Template) -> String {
    match user.fixed() {
        Some(Value::String(user)) => user,
        _ => "USER".to_owned(),
    }
}

/// What is shown, as an option of curl's with a blank after it; none for what is signed.
fn in_words(http: &HttpIntake) -> Option<String> {
    http.proofs.iter().find_map(|proof| match proof {
        SenderProofOf::Shown(Credential::Bearer(_)) => {
            Some(r#"--header "Authorization: Bearer $KEY" "#.to_owned())
        }
        SenderProofOf::Shown(Credential::Basic { user, .. }) => {
            Some(format!(r#"--user "{}:$KEY" "#, name_of(user)))
        }
        SenderProofOf::Shown(Credential::Header { name, .. }) => {
            Some(format!(r#"--header "{name}: $KEY" "#))
        }
        SenderProofOf::Certificate(_) => Some(r#"--cert "$KEY" "#.to_owned()),
        _ => None,
    })
}

/// What prints the same as a line of curl's configuration: no list of processes shows it.
fn for_config(proof: &SenderProof) -> Option<String> {
    let shown = match proof {
        SenderProofOf::Shown(shown) => shown,
        SenderProofOf::Certificate(_) => {
            return Some(r#"printf 'cert = "%s"\n' "$KEY""#.to_owned());
        }
        SenderProofOf::Hmac(_) | SenderProofOf::StandardWebhooks(_) => return None,
    };
    match shown {
        CredentialOf::Bearer(_) => {
            Some(r#"printf 'header = "Authorization: Bearer %s"\n' "$KEY""#.to_owned())
        }
        CredentialOf::Basic { user, .. } => {
            Some(format!(r#"printf 'user = "{}:%s"\n' "$KEY""#, name_of(user)))
        }
        CredentialOf::Header { name, .. } => {
            Some(format!(r#"printf 'header = "{name}: %s"\n' "$KEY""#))
        }
        _ => None,
    }
}

/// The body of a function in Python that gives the headers which prove a sender.
fn in_python(proof: &SenderProof) -> String {
    match proof {
        SenderProofOf::Shown(CredentialOf::Basic { user, .. }) => format!(
            "    pair = base64.b64encode(f\"{}:{{KEY}}\".encode()).decode()\n    \
            return {{\"Authorization\": f\"Basic {{pair}}\"}}",
            name_of(user)
        ),
        SenderProofOf::Shown(CredentialOf::Header { name, .. }) => {
            format!("    return {{\"{name}\": KEY}}")
        }
        SenderProofOf::Shown(_) => {
            "    return {\"Authorization\": f\"Bearer {KEY}\"}".to_owned()
        }
        SenderProofOf::Hmac(hmac) => signing(hmac),
        SenderProofOf::Certificate(_) => "    return {}".to_owned(),
        SenderProofOf::StandardWebhooks(_) => "    \
            at, name = str(int(time.time())), hashlib.sha256(body).hexdigest()\n    \
            key = base64.b64decode(KEY.removeprefix(\"whsec_\"))\n    \
            signed = hmac.new(key, f\"{name}.{at}.\".encode() + body, hashlib.sha256).digest()\n    \
            mark = \"v1,\" + base64.b64encode(signed).decode()\n    \
            return {\"webhook-id\": name, \"webhook-timestamp\": at, \"webhook-signature\": mark}"
            .to_owned(),
    }
}

fn signing(hmac: &SenderHmac<Template>) -> String {
    let parts = hmac.signs.iter().map(|part| match part {
        SignedPart::Text(text) => format!("{}.encode()", quoted(text)),
        SignedPart::Body => "body".to_owned(),
        SignedPart::Timestamp => "at.encode()".to_owned(),
    });
    let parts: Vec<String> = parts.collect();
    let written = match hmac.encoding {
        SignatureEncoding::Hex => "signed.hex()",
        SignatureEncoding::Base64 => "base64.b64encode(signed).decode()",
    };
    let mark = match &hmac.at.field {
        Some(field) => format!("{} + {written}", quoted(&format!("{field}={}", hmac.prefix))),
        None => format!("{} + {written}", quoted(&hmac.prefix)),
    };
    let mut lines = vec![
        "at = str(int(time.time()))".to_owned(),
        format!(
            "signed = hmac.new(KEY.encode(), {}, hashlib.{}).digest()",
            parts.join(" + "),
            hmac.algorithm
        ),
        format!("given = {{{}: {mark}}}", quoted(&hmac.at.header)),
    ];
    if let Some((at, _)) = &hmac.timestamp {
        let time = match &at.field {
            Some(field) => format!("{} + at", quoted(&format!("{field}="))),
            None => "at".to_owned(),
        };
        lines.push(match at.header == hmac.at.header {
            true => format!("given[{0}] = {time} + \",\" + given[{0}]", quoted(&at.header)),
            false => format!("given[{}] = {time}", quoted(&at.header)),
        });
    }
    lines.push("return given".to_owned());
    lines.iter().map(|line| format!("    {line}")).collect::<Vec<_>>().join("\n")
}

/// A text of Python's: JSON's texts are some.
fn quoted(text: &str) -> String {
    Value::String(text.to_owned()).to_string()
}

/// What an agent is told by its administrator, as two commands that do the same.
fn notification_lines(trap: &TrapIntake) -> Vec<SenderLine> {
    let at = trap.udp;
    let mut lines = Vec::new();
    for credential in &trap.credentials {
        let shown = match credential {
            AgentCredential::Community(_) => "-v2c -c \"$KEY\"".to_owned(),
            AgentCredential::User { user, authentication: (digest, _), privacy } => {
                let private = privacy.as_ref().map(|(cipher, _)| {
                    let cipher = match cipher {
                        AgentCipher::Des => "DES",
                        AgentCipher::Aes128 => "AES",
                        AgentCipher::Aes192 => "AES-192",
                        AgentCipher::Aes256 => "AES-256",
                    };
                    format!(" -x {cipher} -X \"$PRIVACY_KEY\"")
                });
                let level = if private.is_some() { "authPriv" } else { "authNoPriv" };
                let digest = match digest {
                    AgentDigest::Md5 => "MD5",
                    AgentDigest::Sha1 => "SHA",
                    AgentDigest::Sha224 => "SHA-224",
                    AgentDigest::Sha256 => "SHA-256",
                    AgentDigest::Sha384 => "SHA-384",
                    AgentDigest::Sha512 => "SHA-512",
                };
                let private = private.unwrap_or_default();
                let user = name_of(user);
                format!("-v3 -l {level} -u '{user}' -a {digest} -A \"$KEY\"{private}")
            }
        };
        for (title, command) in [
            ("A trap, of which nobody hears whether it came", "snmptrap"),
            ("An inform, which is answered once it is recorded", "snmpinform"),
        ] {
            let text = format!("MIBS= {command} {shown} {at} {LINK_DOWN}");
            lines.push(SenderLine::new(title, text));
        }
    }
    lines
}
