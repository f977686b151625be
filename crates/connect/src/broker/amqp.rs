//! AMQP 0-9-1: a message that the broker confirms, a look at a queue, and its messages. The library
//! speaks over a line that is made here, so that TLS is spoken as everywhere else, and nothing of a
//! call is left when it is over.

use super::{
    Broker, end, late,
    message::{BrokerMessage, MessageHandle, Receipt},
    shown,
};
use crate::{
    driver::{Called, Driver, Way, unsent},
    tls,
};
use arvok_core::connector::{AmqpAct, AmqpAnswer, AmqpMessage, AmqpPlan, Answer, CallEnd, Failure};
use async_rs::{
    Runtime, Tokio,
    traits::{Executor, Reactor, RuntimeKit},
    util::Task,
};
use futures_util::{
    Stream, StreamExt,
    io::{AsyncRead, AsyncWrite},
};
use lapin::{
    Acker, AsyncTcpStream, BasicProperties, Channel, Confirmation, Connection,
    ConnectionProperties, Consumer, ErrorKind,
    message::Delivery,
    options::{
        BasicAckOptions, BasicConsumeOptions, BasicPublishOptions, BasicQosOptions,
        ConfirmSelectOptions, QueueDeclareOptions,
    },
    types::{AMQPValue, FieldTable, ShortString},
    uri::{AMQPAuthority, AMQPQueryString, AMQPScheme, AMQPUri, AMQPUserInfo},
};
use percent_encoding::percent_decode_str;
use rustls::pki_types::ServerName;
use serde_json::{Map, Value};
use std::{
    io,
    net::SocketAddr,
    sync::{Mutex, PoisonError},
    time::{Duration, Instant},
};
use tokio::{
    io::{DuplexStream, copy_bidirectional},
    net::TcpStream,
    runtime::Handle,
    task::AbortHandle,
};
use tokio_rustls::TlsConnector;
use tokio_util::compat::{Compat, TokioAsyncReadCompatExt};

const PORT: u16 = 5672;
const TLS_PORT: u16 = 5671;
/// Largest frame that is spoken, in bytes.
const MAX_FRAME: u32 = 128 << 10;
/// Seconds after which a silent line is taken for broken.
const HEARTBEAT: u16 = 10;
/// Longest name, in bytes (section 4.2.5.3).
const MAX_NAME: usize = 255;
/// What a persistent message says (`delivery-mode`).
const PERSISTENT: u8 = 2;
/// Errors that end a channel alone (section 1.1): what was asked was not done.
const OF_CHANNEL: [u16; 7] = [311, 312, 313, 403, 404, 405, 406];

/// The driver.
#[derive(Debug)]
pub(crate) struct Amqp;

impl Amqp {
    /// Looks whether a broker answers and lets one in.
    ///
    /// # Errors
    /// That it does not.
    pub(crate) async fn probe(&self, way: Way<'_>) -> Result<String, Failure> {
        let look = async {
            let line = Line::open(way).await?;
            line.close().await;
            Ok("lets one in, and speaks AMQP 0-9-1".to_owned())
        };
        let looked = tokio::time::timeout(way.timeout, look).await;
        looked.unwrap_or_else(|_| Err(late(way, false)))
    }
}

impl Driver<AmqpPlan<'_>> for Amqp {
    async fn perform(
        &self,
        plan: AmqpPlan<'_>,
        way: Way<'_>,
        last: &mut Option<Answer>,
    ) -> Result<Called, Failure> {
        let mut has_left = false;
        let asking = asked(plan.act(), way, &mut has_left);
        let said = match tokio::time::timeout(way.timeout, asking).await {
            Ok(said) => said?,
            Err(_) => return Err(late(way, has_left)),
        };
        let (status, words) = match &said {
            AmqpAnswer::Refused(code, words) => (*code, words.clone()),
            AmqpAnswer::Confirmed => (0, "confirmed".to_owned()),
            AmqpAnswer::Declined => (0, "not taken".to_owned()),
            AmqpAnswer::Queue { messages, consumers } => {
                (0, format!("{messages} messages, {consumers} consumers"))
            }
        };
        *last = Some(Answer { status, headers: Map::new(), body: Value::String(words) });
        plan.answered(&said).map(Called::Output)
    }
}

async fn asked(act: &AmqpAct, way: Way<'_>, has_left: &mut bool) -> Result<AmqpAnswer, Failure> {
    let line = Line::open(way).await?;
    let channel = line.connection.create_channel().await.map_err(|e| broken(&e, way, false))?;
    let said = match act {
        AmqpAct::LookAt(queue) => {
            let options = QueueDeclareOptions { passive: true, ..QueueDeclareOptions::default() };
            let looked =
                channel.queue_declare(queue.as_str().into(), options, FieldTable::default()).await;
            match looked {
                Ok(queue) => Ok(AmqpAnswer::Queue {
                    messages: queue.message_count(),
                    consumers: queue.consumer_count(),
                }),
                Err(why) => refused(why, way, false),
            }
        }
        AmqpAct::Publish(message) => {
            let confirms = channel.confirm_select(ConfirmSelectOptions::default()).await;
            confirms.map_err(|e| broken(&e, way, false))?;
            *has_left = true;
            let options =
                BasicPublishOptions { mandatory: message.mandatory, ..Default::default() };
            let publishing = channel.basic_publish(
                message.exchange.as_str().into(),
                message.routing_key.as_str().into(),
                options,
                &message.body.bytes,
                properties(message),
            );
            let confirmed = match publishing.await {
                Ok(confirm) => confirm.await,
                Err(why) => Err(why),
            };
            match confirmed {
                // It came back since no queue takes it; that it is confirmed then means nothing.
                Ok(Confirmation::Ack(Some(back)) | Confirmation::Nack(Some(back))) => {
                    Ok(AmqpAnswer::Refused(back.reply_code, back.reply_text.to_string()))
                }
                Ok(Confirmation::Ack(None)) => Ok(AmqpAnswer::Confirmed),
                Ok(Confirmation::Nack(None)) => Ok(AmqpAnswer::Declined),
                Ok(Confirmation::NotRequested) => {
                    Err(Failure::new(CallEnd::Unknown, format!("{}: no confirmation", way.base)))
                }
                Err(why) => refused(why, way, true),
            }
        }
    };
    line.close().await;
    said
}

fn properties(message: &AmqpMessage) -> BasicProperties {
    let mut properties = BasicProperties::default().with_message_id(message.id.as_str().into());
    if message.persistent {
        properties = properties.with_delivery_mode(PERSISTENT);
    }
    if let Some(content_type) = &message.body.content_type {
        properties = properties.with_content_type(content_type.as_str().into());
    }
    if let Some(seconds) = message.expires {
        let milliseconds = u64::from(seconds) * 1000;
        properties = properties.with_expiration(milliseconds.to_string().into());
    }
    if !message.headers.is_empty() {
        let mut headers = FieldTable::default();
        for (name, text) in &message.headers {
            let text = AMQPValue::LongString(text.as_str().into());
            headers.insert(name.as_str().into(), text);
        }
        properties = properties.with_headers(headers);
    }
    properties
}

/// What an error means: the broker's no, if it ended the channel alone.
fn refused(why: lapin::Error, way: Way<'_>, has_left: bool) -> Result<AmqpAnswer, Failure> {
    match why.kind() {
        ErrorKind::ProtocolError(said) if OF_CHANNEL.contains(&said.get_id()) => {
            Ok(AmqpAnswer::Refused(said.get_id(), said.get_message().to_string()))
        }
        _ => Err(broken(&why, way, has_left)),
    }
}

fn broken(why: &lapin::Error, way: Way<'_>, has_left: bool) -> Failure {
    Failure::new(end(has_left), format!("{}: {why}", way.base))
}

/// A line over which the messages of a queue come.
pub(crate) struct AmqpConsumer {
    line: Line,
    channel: Channel,
    coming: Consumer,
    queue: String,
    base: String,
}

/// The header by which a message that is handed on says why.
const UNREADABLE: &str = "x-arvok-unreadable";

impl AmqpConsumer {
    /// Begins to take messages of a queue, so many unacknowledged ones at a time.
    ///
    /// # Errors
    /// That nobody is there who lets us in, or there is no such queue.
    pub(crate) async fn open(way: Way<'_>, queue: &str, at_once: u16) -> Result<Self, Failure> {
        let opening = async {
            let line = Line::open(way).await?;
            let wrong = |e: lapin::Error| broken(&e, way, false);
            let channel = line.connection.create_channel().await.map_err(wrong)?;
            channel.basic_qos(at_once, BasicQosOptions::default()).await.map_err(wrong)?;
            channel.confirm_select(ConfirmSelectOptions::default()).await.map_err(wrong)?;
            let (options, table) = (BasicConsumeOptions::default(), FieldTable::default());
            let coming = channel.basic_consume(queue.into(), "".into(), options, table).await;
            let coming = coming.map_err(wrong)?;
            let (queue, base) = (queue.to_owned(), way.base.to_owned());
            Ok(Self { line, channel, coming, queue, base })
        };
        let opened = tokio::time::timeout(way.timeout, opening).await;
        opened.unwrap_or_else(|_| Err(late(way, false)))
    }

    pub(super) async fn next(&mut self) -> Result<BrokerMessage, String> {
        let come = self.coming.next().await;
        let come = come.ok_or_else(|| format!("{} gives nothing any more", self.base))?;
        let Delivery { exchange, routing_key, redelivered, properties, data, acker, .. } =
            come.map_err(|e| format!("{}: {e}", self.base))?;
        let text = |text: &Option<ShortString>| {
            text.as_ref().map_or_else(String::new, ToString::to_string)
        };
        let headers = properties.headers().as_ref().map(values).unwrap_or_default();
        let id = properties.message_id().as_ref().map(ToString::to_string);
        Ok(BrokerMessage {
            raw: data,
            properties: Map::from_iter([
                ("exchange".to_owned(), exchange.to_string().into()),
                ("routing_key".to_owned(), routing_key.to_string().into()),
                ("headers".to_owned(), headers.into()),
                ("content_type".to_owned(), text(properties.content_type()).into()),
                ("message_id".to_owned(), text(properties.message_id()).into()),
            ]),
            is_again: redelivered,
            id: id.filter(|id| !id.is_empty()),
            number: None,
            receipt: Receipt(MessageHandle::Amqp(acker)),
        })
    }

    pub(super) async fn hand_on(
        &self,
        exchange: &str,
        (raw, properties): (&[u8], &Map<String, Value>),
        reason: &str,
    ) -> Result<(), String> {
        let wrong = |why: String| format!("exchange {exchange} does not take it: {why}");
        let text = |name: &str| properties.get(name).and_then(Value::as_str).unwrap_or_default();
        let mut headers = FieldTable::default();
        headers.insert(UNREADABLE.into(), AMQPValue::LongString(reason.into()));
        let mut given =
            BasicProperties::default().with_delivery_mode(PERSISTENT).with_headers(headers);
        if !text("content_type").is_empty() {
            given = given.with_content_type(text("content_type").into());
        }
        if !text("message_id").is_empty() {
            given = given.with_message_id(text("message_id").into());
        }
        let options = BasicPublishOptions::default();
        let key = text("routing_key");
        let publishing =
            self.channel.basic_publish(exchange.into(), key.into(), options, raw, given);
        let confirm = publishing.await.map_err(|e| wrong(e.to_string()))?;
        match confirm.await.map_err(|e| wrong(e.to_string()))? {
            Confirmation::Ack(_) => Ok(()),
            Confirmation::Nack(_) | Confirmation::NotRequested => Err(wrong("it says no".into())),
        }
    }

    pub(super) async fn waiting(&self) -> Result<u32, String> {
        let options = QueueDeclareOptions { passive: true, ..QueueDeclareOptions::default() };
        let queue = self.queue.as_str().into();
        let looked = self.channel.queue_declare(queue, options, FieldTable::default()).await;
        looked.map(|queue| queue.message_count()).map_err(|e| format!("{}: {e}", self.base))
    }

    pub(super) async fn close(self) {
        self.line.close().await;
    }
}

/// Says that a message is done with.
pub(super) async fn acknowledge(acker: &Acker) -> Result<(), String> {
    match acker.ack(BasicAckOptions::default()).await {
        Ok(_) => Ok(()),
        Err(e) => Err(e.to_string()),
    }
}

/// Headers as values; of those of other types there is none.
fn values(headers: &FieldTable) -> Map<String, Value> {
    let value = |value: &AMQPValue| {
        Some(match value {
            AMQPValue::Boolean(is) => (*is).into(),
            AMQPValue::ShortShortInt(n) => (*n).into(),
            AMQPValue::ShortShortUInt(n) => (*n).into(),
            AMQPValue::ShortInt(n) => (*n).into(),
            AMQPValue::ShortUInt(n) => (*n).into(),
            AMQPValue::LongInt(n) => (*n).into(),
            AMQPValue::LongUInt(n) => (*n).into(),
            AMQPValue::LongLongInt(n) => (*n).into(),
            AMQPValue::Double(n) => (*n).into(),
            AMQPValue::Float(n) => (*n).into(),
            AMQPValue::ShortString(text) => text.to_string().into(),
            AMQPValue::LongString(text) => text.to_string().into(),
            AMQPValue::Timestamp(seconds) => (*seconds).into(),
            _ => return None,
        })
    };
    let all = headers.inner().iter();
    all.filter_map(|(name, of)| Some((name.to_string(), value(of)?))).collect()
}

/// A line to a broker that has let us in; all of it is gone with it.
struct Line {
    connection: Connection,
    carrying: Carrying,
}

/// Carries what is said between the library and the broker, until it is dropped.
struct Carrying(AbortHandle);

impl Drop for Carrying {
    fn drop(&mut self) {
        self.0.abort();
    }
}

impl Line {
    async fn open(way: Way<'_>) -> Result<Self, Failure> {
        let broker = Broker::of(way.base, PORT, TLS_PORT)?;
        let Some((user, password)) = shown(&way)? else {
            return Err(unsent(format!("{}: a broker is shown `basic`", way.base)));
        };
        let vhost = match broker.path.strip_prefix('/').unwrap_or_default() {
            "" => "/".to_owned(),
            name => percent_decode_str(name).decode_utf8_lossy().into_owned(),
        };
        if vhost.len() > MAX_NAME {
            return Err(unsent(format!("{}: the virtual host's name is too long", way.base)));
        }
        let uri = AMQPUri {
            scheme: AMQPScheme::AMQP,
            authority: AMQPAuthority {
                userinfo: AMQPUserInfo { username: user.to_owned(), password: password.to_owned() },
                host: broker.host.clone(),
                port: broker.port,
            },
            vhost,
            query: AMQPQueryString {
                frame_max: Some(MAX_FRAME),
                channel_max: Some(1),
                heartbeat: Some(HEARTBEAT),
                ..AMQPQueryString::default()
            },
        };
        let (ours, carrying) = carried(&broker, way).await.map_err(|why| match why {
            Unreached::Failed(failure) => failure,
            Unreached::Line(e) => {
                Failure::new(CallEnd::NotSent, format!("cannot connect to {}: {e}", way.base))
            }
        })?;
        let line = Mutex::new(Some(ours.compat()));
        let taken = move |_, _| {
            let line = line.lock().unwrap_or_else(PoisonError::into_inner).take();
            async move {
                let gone = || lapin::Error::from(io::Error::from(io::ErrorKind::NotConnected));
                line.map(AsyncTcpStream::Plain).ok_or_else(gone)
            }
        };
        let runtime = Runtime::new(Kit(Tokio::default().with_handle(Handle::current())));
        let properties = ConnectionProperties::default().with_connection_name("arvok".into());
        let opening = Connection::connector(uri, runtime, taken, properties);
        let connection = opening.await.map_err(|why| {
            let is_refused = matches!(why.kind(), ErrorKind::ProtocolError(_));
            let failure =
                Failure::new(CallEnd::NotSent, format!("{} does not let us in: {why}", way.base));
            Failure { lasting: is_refused, ..failure }
        })?;
        Ok(Self { connection, carrying })
    }

    /// Says goodbye; what was asked is done in any case.
    async fn close(self) {
        let closing = self.connection.close(200, "done".into());
        let _ = tokio::time::timeout(Duration::from_secs(1), closing).await;
        drop(self.carrying);
    }
}

/// Why a broker is not reached.
enum Unreached {
    Failed(Failure),
    Line(io::Error),
}

/// Our end of a line to a broker.
async fn carried(broker: &Broker, way: Way<'_>) -> Result<(DuplexStream, Carrying), Unreached> {
    let at = (broker.host.as_str(), broker.port);
    let mut plain = TcpStream::connect(at).await.map_err(Unreached::Line)?;
    let _ = plain.set_nodelay(true);
    let (ours, mut theirs) = tokio::io::duplex(MAX_FRAME as usize);
    let carrying = if broker.is_tls {
        let config = tls::client(way.authorities).map_err(|e| Unreached::Failed(unsent(e)))?;
        let name = ServerName::try_from(broker.host.clone())
            .map_err(|e| Unreached::Line(io::Error::other(e)))?;
        let connecting = TlsConnector::from(config).connect(name, plain);
        let mut line = connecting.await.map_err(Unreached::Line)?;
        tokio::spawn(async move { copy_bidirectional(&mut theirs, &mut line).await })
    } else {
        tokio::spawn(async move { copy_bidirectional(&mut theirs, &mut plain).await })
    };
    Ok((ours, Carrying(carrying.abort_handle())))
}

/// The runtime of the process, with lines that were made beforehand.
#[derive(Clone, Debug)]
struct Kit(Tokio);

impl RuntimeKit for Kit {}

impl Executor for Kit {
    type Task<T: Send + 'static> = <Tokio as Executor>::Task<T>;

    fn block_on<T, F: Future<Output = T>>(&self, f: F) -> T {
        self.0.block_on(f)
    }

    fn spawn<T: Send + 'static, F: Future<Output = T> + Send + 'static>(
        &self,
        f: F,
    ) -> Task<Self::Task<T>> {
        self.0.spawn(f)
    }

    fn spawn_blocking<T: Send + 'static, F: FnOnce() -> T + Send + 'static>(
        &self,
        f: F,
    ) -> Task<Self::Task<T>> {
        self.0.spawn_blocking(f)
    }
}

impl Reactor for Kit {
    type TcpStream = Compat<DuplexStream>;
    type Sleep = <Tokio as Reactor>::Sleep;

    fn register<H: io::Read + io::Write + Send + 'static>(
        &self,
        _: H,
    ) -> io::Result<impl AsyncRead + AsyncWrite + Send + Unpin + 'static> {
        Err::<Self::TcpStream, _>(io::ErrorKind::Unsupported.into())
    }

    fn sleep(&self, dur: Duration) -> Self::Sleep {
        self.0.sleep(dur)
    }

    fn interval(&self, dur: Duration) -> impl Stream<Item = Instant> + Send + 'static {
        self.0.interval(dur)
    }

    fn tcp_connect_addr(
        &self,
        _: SocketAddr,
    ) -> impl Future<Output = io::Result<Self::TcpStream>> + Send + 'static {
        std::future::ready(Err(io::ErrorKind::Unsupported.into()))
    }
}
