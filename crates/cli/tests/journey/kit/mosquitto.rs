//! A broker of MQTT: mosquitto, which keeps what it has over its own restarts.

use super::{folder, until};
use arvok_postgres::free_port;
use std::{
    fs,
    io::Write,
    net::TcpStream,
    path::PathBuf,
    process::{Child, Command, Stdio},
};

/// A broker that ends with the test.
pub struct Mosquitto {
    pub port: u16,
    config: PathBuf,
    child: Option<Child>,
}

impl Mosquitto {
    pub fn start() -> Self {
        let folder = folder("mosquitto");
        let port = free_port().expect("a port");
        let text = format!(
            "listener {port} 127.0.0.1\nallow_anonymous true\nuser root\npersistence true\n\
             persistence_location {}/\nautosave_interval 1\nautosave_on_changes true\n\
             max_queued_messages 0\n",
            folder.display()
        );
        let config = folder.join("config");
        fs::write(&config, text).expect("writes");
        let mut broker = Self { port, config, child: None };
        broker.begin();
        broker
    }

    /// Starts it, again.
    pub fn begin(&mut self) {
        let mut command = Command::new("/usr/sbin/mosquitto");
        command.arg("-c").arg(&self.config).stdout(Stdio::null()).stderr(Stdio::null());
        self.child = Some(command.spawn().expect("Debian has mosquitto"));
        until("the broker to listen", || TcpStream::connect(("127.0.0.1", self.port)).ok());
    }

    /// Ends it as a service is ended; what it has stays.
    pub fn end(&mut self) {
        if let Some(mut child) = self.child.take() {
            let _ = Command::new("kill").arg(child.id().to_string()).status();
            let _ = child.wait();
        }
    }

    /// Publishes a message of each line, each acknowledged by the broker; with more options.
    pub fn publish(&self, topic: &str, more: &[&str], lines: &str) {
        let port = self.port.to_string();
        let mut command = Command::new("mosquitto_pub");
        command
            .args(["--protocol-version", "5", "--qos", "1", "--port", &port, "--topic", topic])
            .args(["--host", "127.0.0.1", "--stdin-line"])
            .args(more)
            .stdin(Stdio::piped());
        let mut running = command.spawn().expect("Debian has mosquitto-clients");
        let mut input = running.stdin.take().expect("its input");
        input.write_all(lines.as_bytes()).expect("writes");
        drop(input);
        assert!(running.wait().expect("ends").success());
    }
}

impl Drop for Mosquitto {
    fn drop(&mut self) {
        self.end();
    }
}
