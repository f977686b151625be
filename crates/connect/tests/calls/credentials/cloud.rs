//! A public simulator of a cloud, driven by connectors that are only described: requests in the
//! style of a query, answers of XML, and signatures that it checks.

use super::{PACKAGES, called, connector};
use arvok_connect::Drivers;
use arvok_core::connector::{CallEnd, Connector, Failure, Opened, SignatureV4};
use serde_json::{Value, json};
use std::{
    net::TcpListener,
    process::{Child, Command, Stdio},
    time::Duration,
};
use tokio::net::TcpStream;

/// Requests that the simulator takes before it checks anything: those that make a user.
const UNCHECKED: &str = "3";
const ANYTHING: &str = r#"{"Version": "2012-10-17", "Statement": [{"Effect": "Allow", "Action": "*", "Resource": "*"}]}"#;

/// A simulator that ends with the test.
struct Simulator {
    child: Child,
    base: String,
}

impl Simulator {
    async fn start() -> Self {
        let bound = TcpListener::bind("127.0.0.1:0").expect("a port");
        let port = bound.local_addr().expect("has one").port();
        drop(bound);
        let child = Command::new(format!("{PACKAGES}/bin/python"))
            .args(["-m", "moto.server", "-H", "127.0.0.1", "-p", &port.to_string()])
            .env("INITIAL_NO_AUTH_ACTION_COUNT", UNCHECKED)
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("tools/setup has installed the packages");
        for _ in 0..600 {
            if TcpStream::connect(("127.0.0.1", port)).await.is_ok() {
                break;
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        Self { child, base: format!("http://127.0.0.1:{port}") }
    }

    async fn call(
        &self,
        drivers: &Drivers,
        operation: &str,
        key: &Opened,
        give: Value,
    ) -> Result<Value, Failure> {
        called(drivers, &described(operation), &self.base, key, give).await
    }
}

impl Drop for Simulator {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn described(operation: &str) -> Connector {
    connector(&format!("operations:\n  op:\n    {operation}\n"))
}

fn key(service: &str, key_id: &str, key: &str) -> Opened {
    Opened::SignatureV4(SignatureV4 {
        key_id: key_id.to_owned(),
        key: key.to_owned(),
        region: "us-east-1".to_owned(),
        service: service.to_owned(),
        token: None,
    })
}

const MAKE_USER: &str = "request: { method: POST, path: /, form: { Action: CreateUser, Version: \
    2010-05-08, UserName: arvok } }";
const MAKE_KEY: &str = "{ request: { method: POST, path: /, form: { Action: CreateAccessKey, Version: \
    2010-05-08, UserName: arvok } }, output: \
    response.body.CreateAccessKeyResponse.CreateAccessKeyResult.AccessKey }";
const ALLOW: &str = "{ takes: { policy: { type: string } }, request: { method: POST, path: /, form: { \
    Action: PutUserPolicy, Version: 2010-05-08, UserName: arvok, PolicyName: all, PolicyDocument: \
    '${give.policy}' } } }";
const RUN: &str = "{ request: { method: POST, path: /, form: { Action: RunInstances, Version: \
    2016-11-15, ImageId: ami-12c6146b, MinCount: '2', MaxCount: '2' } }, lists: [item], output: \
    'response.body.RunInstancesResponse.instancesSet.item.map(i, i.instanceId)' }";
const STOP: &str = "{ takes: { id: { type: string } }, request: { method: POST, path: /, form: { \
    Action: StopInstances, Version: 2016-11-15, InstanceId.1: '${give.id}' } }, until: { every: 100ms, \
    within: 20s, look: { method: POST, path: /, form: { Action: DescribeInstances, Version: \
    2016-11-15, InstanceId.1: '${give.id}' } }, done: \
    'response.body.DescribeInstancesResponse.reservationSet.item[0].instancesSet.item[0]\
    .instanceState.name == \"stopped\"' }, lists: [item], output: \
    'response.body.DescribeInstancesResponse.reservationSet.item[0].instancesSet.item[0]\
    .instanceState.name' }";

#[tokio::test]
async fn a_cloud_is_driven_by_a_connector_that_is_only_described() {
    let simulator = Simulator::start().await;
    let drivers = Drivers::new().expect("a client");
    let nobody = key("iam", "AKNOBODY", "nothing");
    let call = |operation: &'static str, key: Opened, give: Value| {
        let (simulator, drivers) = (&simulator, &drivers);
        async move { simulator.call(drivers, operation, &key, give).await }
    };
    call(MAKE_USER, nobody.clone(), json!({})).await.expect("a user");
    let made = call(MAKE_KEY, nobody.clone(), json!({})).await.expect("a key");
    call(ALLOW, nobody, json!({ "policy": ANYTHING })).await.expect("may");
    let (id, secret) = (made["AccessKeyId"].as_str(), made["SecretAccessKey"].as_str());
    let (id, secret) = (id.expect("an id"), secret.expect("a secret"));
    // From here on each request is checked by the simulator.
    let ids = call(RUN, key("ec2", id, secret), json!({})).await.expect("run");
    assert_eq!(ids.as_array().map(Vec::len), Some(2), "{ids}");
    let stopped = call(STOP, key("ec2", id, secret), json!({ "id": ids[1] })).await;
    assert_eq!(stopped, Ok(json!("stopped")));
    let failure = call(STOP, key("ec2", id, secret), json!({ "id": "i-0123456789abcdef0" })).await;
    let failure = failure.expect_err("there is none");
    assert_eq!(failure.end, CallEnd::Refused, "{failure:?}");
    assert!(failure.message.contains("does not exist"), "{failure:?}");
    let wrong = call(RUN, key("ec2", id, "another"), json!({})).await.expect_err("is refused");
    assert_eq!(wrong.end, CallEnd::Refused, "{wrong:?}");
    assert!(wrong.message.contains("AWS was not able to validate"), "{wrong:?}");
    // An object store: names with everything in them, and bodies.
    let bucket = "{ request: { method: PUT, path: /quay-notes } }";
    call(bucket, key("s3", id, secret), json!({})).await.expect("a bucket");
    let put = "{ takes: { name: { type: string }, text: { type: string } }, request: { method: PUT, \
        path: '/quay-notes/${give.name}', text: '${give.text}' } }";
    let get = "{ takes: { name: { type: string } }, request: { method: GET, path: \
        '/quay-notes/${give.name}' } }";
    for name in ["a b+c", "ä~*()!'", "tide=high&x"] {
        let text = format!("the note of {name}\n");
        let given = json!({ "name": name, "text": text });
        call(put, key("s3", id, secret), given).await.expect("is kept");
        let note = call(get, key("s3", id, secret), json!({ "name": name })).await;
        assert_eq!(note, Ok(Value::from(text)));
    }
    let failure = call(get, key("s3", id, secret), json!({ "name": "none" })).await;
    let failure = failure.expect_err("there is none");
    assert_eq!(failure.message, "answered 404: The specified key does not exist.");
}
