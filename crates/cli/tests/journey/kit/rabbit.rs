//! A broker of AMQP: RabbitMQ, which keeps what it has over its own restarts.

use super::{block, folder, until};
use arvok_postgres::free_port;
use lapin::{
    BasicProperties, Channel, Connection, ConnectionProperties,
    options::{
        BasicGetOptions, BasicPublishOptions, ConfirmSelectOptions, QueueBindOptions,
        QueueDeclareOptions,
    },
    types::{AMQPValue, FieldTable},
};
use std::{
    fs,
    net::TcpStream,
    path::PathBuf,
    process::{Child, Command, Stdio},
};

/// A broker that ends with the test.
pub struct Rabbit {
    pub port: u16,
    folder: PathBuf,
    mapper_port: u16,
    between_nodes: u16,
    child: Option<Child>,
}

impl Rabbit {
    pub const USER: &'static str = "watch";
    pub const PASSWORD: &'static str = "fog-horn-77";

    pub fn start() -> Self {
        let folder = folder("rabbit");
        let free = || free_port().expect("a port");
        let (port, mapper_port, between_nodes) = (free(), free(), free());
        let config = format!(
            "listeners.tcp.1 = 127.0.0.1:{port}\ndefault_user = {}\ndefault_pass = {}\n\
             loopback_users = none\n",
            Self::USER,
            Self::PASSWORD
        );
        fs::write(folder.join("rabbitmq.conf"), config).expect("writes");
        fs::write(folder.join("plugins"), "[].\n").expect("writes");
        let mut broker = Self { port, folder, mapper_port, between_nodes, child: None };
        broker.begin();
        broker
    }

    /// Starts it, again.
    pub fn begin(&mut self) {
        let programs = fs::read_dir("/usr/lib/rabbitmq/lib").expect("Debian has rabbitmq-server");
        let program = programs.flatten().map(|entry| entry.path().join("sbin/rabbitmq-server"));
        let program: PathBuf = program.last().expect("one version");
        let at = |name: &str| self.folder.join(name);
        let mut command = Command::new(program);
        command
            .env_clear()
            .env("PATH", "/usr/local/bin:/usr/bin:/bin:/usr/sbin:/sbin")
            .env("HOME", &self.folder)
            .env("RABBITMQ_NODENAME", format!("arvok-{}@localhost", self.port))
            .env("RABBITMQ_MNESIA_BASE", at("data"))
            .env("RABBITMQ_LOG_BASE", at("log"))
            .env("RABBITMQ_CONFIG_FILE", at("rabbitmq.conf"))
            .env("RABBITMQ_ENABLED_PLUGINS_FILE", at("plugins"))
            .env("RABBITMQ_DIST_PORT", self.between_nodes.to_string())
            .env("ERL_EPMD_PORT", self.mapper_port.to_string())
            .env("ERL_EPMD_ADDRESS", "127.0.0.1")
            .env(
                "RABBITMQ_SERVER_ADDITIONAL_ERL_ARGS",
                "-kernel inet_dist_use_interface {127,0,0,1}",
            );
        let child = command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        self.child = Some(child.spawn().expect("starts"));
        until("the broker to listen", || TcpStream::connect(("127.0.0.1", self.port)).ok());
    }

    /// Ends it as a service is ended; what it has stays.
    pub fn end(&mut self) {
        if let Some(mut child) = self.child.take() {
            // It hands its signal on to what it has started.
            let _ = Command::new("kill").arg(child.id().to_string()).status();
            let _ = child.wait();
            // What was started beside it, and knows the names of nodes.
            let _ = Command::new("epmd")
                .args(["-port", &self.mapper_port.to_string(), "-kill"])
                .stdout(Stdio::null())
                .status();
        }
    }

    /// Does something over a line of its own.
    fn over<T>(&self, act: impl AsyncFnOnce(Channel) -> lapin::Result<T>) -> T {
        let uri = format!("amqp://{}:{}@127.0.0.1:{}", Self::USER, Self::PASSWORD, self.port);
        block(async {
            let connection = Connection::connect(&uri, ConnectionProperties::default()).await;
            let connection = connection.expect("lets one in");
            let channel = connection.create_channel().await.expect("a channel");
            let done = act(channel).await.expect("is done");
            let _ = connection.close(200, "done".into()).await;
            done
        })
    }

    /// Makes a queue that outlives the broker's restarts.
    pub fn declare(&self, queue: &str) {
        let options = QueueDeclareOptions { durable: true, ..QueueDeclareOptions::default() };
        self.over(async |channel| {
            channel.queue_declare(queue.into(), options, FieldTable::default()).await
        });
    }

    /// Has an exchange that there is give its messages to a queue.
    pub fn bind(&self, queue: &str, exchange: &str) {
        let (options, none) = (QueueBindOptions::default(), FieldTable::default());
        self.over(async |channel| {
            channel.queue_bind(queue.into(), exchange.into(), "".into(), options, none).await
        });
    }

    /// Publishes a message of each line to a queue, confirmed by the broker, and persistent.
    pub fn publish(&self, queue: &str, lines: &str) {
        self.over(async |channel| {
            channel.confirm_select(ConfirmSelectOptions::default()).await?;
            for line in lines.lines() {
                let (options, persistent) = (
                    BasicPublishOptions::default(),
                    BasicProperties::default().with_delivery_mode(2),
                );
                let raw = line.as_bytes();
                let confirm = channel
                    .basic_publish("".into(), queue.into(), options, raw, persistent)
                    .await?;
                confirm.await?;
            }
            Ok(())
        });
    }

    /// The next message of a queue, and why it is there; none if the queue is empty.
    pub fn take(&self, queue: &str) -> Option<(String, String)> {
        let options = BasicGetOptions { no_ack: true };
        let found = self.over(async |channel| channel.basic_get(queue.into(), options).await)?;
        let headers = found.delivery.properties.headers().clone().unwrap_or_default();
        let why = headers.inner().get("x-arvok-unreadable").map(|why| match why {
            AMQPValue::LongString(text) => text.to_string(),
            other => format!("{other:?}"),
        });
        let text = String::from_utf8_lossy(&found.delivery.data).into_owned();
        Some((text, why.unwrap_or_default()))
    }
}

impl Drop for Rabbit {
    fn drop(&mut self) {
        self.end();
    }
}
