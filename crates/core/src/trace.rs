//! Trace context (W3C Trace Context, level 1): to which distributed trace a message belongs. It is
//! carried from the alert to the job that was dispatched for it and to the calls of that job.
//!
//! ```
//! use arvok_core::TraceContext;
//!
//! let sent = "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01";
//! let alert = TraceContext::parse(sent).expect("is a traceparent");
//! assert_eq!(alert.to_string(), sent);
//!
//! let call = alert.child(0x1122_3344_5566_7788);
//! assert_eq!(call.trace_id(), alert.trace_id());
//! assert_eq!(call.to_string(), "00-4bf92f3577b34da6a3ce929d0e0e4736-1122334455667788-01");
//! ```

use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::fmt;

/// The name of the header, and of the attribute of a CloudEvent, that carries one.
pub const TRACEPARENT: &str = "traceparent";

/// The only flag of level 1: the sender may have recorded its part of the trace.
const SAMPLED: u8 = 1;

/// A span within a trace, as the header `traceparent` names it (section 3.2).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct TraceContext {
    trace: u128,
    span: u64,
    sampled: bool,
}

impl TraceContext {
    /// Reads a `traceparent`. None where it is not one: then a receiver begins a trace of its own
    /// (section 4.3). Of a version that is not known, what level 1 says of it counts.
    pub fn parse(text: &str) -> Option<Self> {
        let mut parts = text.split('-');
        let mut next = |length| parts.next().filter(|part| is_hex(part, length));
        let (version, trace, span, flags) = (next(2)?, next(32)?, next(16)?, next(2)?);
        let is_known = version == "00";
        if version == "ff" || is_known && parts.next().is_some() {
            return None;
        }
        let trace = u128::from_str_radix(trace, 16).ok().filter(|trace| *trace != 0)?;
        let span = u64::from_str_radix(span, 16).ok().filter(|span| *span != 0)?;
        let flags = u8::from_str_radix(flags, 16).ok()?;
        Some(Self { trace, span, sampled: flags & SAMPLED != 0 })
    }

    /// Another span of the same trace. Of zero, which names none, the one above it.
    #[must_use]
    pub fn child(self, span: u64) -> Self {
        Self { span: span.max(1), ..self }
    }

    /// The trace, in hexadecimal.
    pub fn trace_id(self) -> String {
        format!("{:032x}", self.trace)
    }
}

fn is_hex(text: &str, length: usize) -> bool {
    text.len() == length && text.bytes().all(|b| matches!(b, b'0'..=b'9' | b'a'..=b'f'))
}

impl fmt::Display for TraceContext {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { trace, span, sampled } = self;
        write!(f, "00-{trace:032x}-{span:016x}-{:02x}", u8::from(*sampled))
    }
}

impl Serialize for TraceContext {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for TraceContext {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let text = String::deserialize(from)?;
        Self::parse(&text).ok_or_else(|| serde::de::Error::custom("is not a traceparent"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const SENT: &str = "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01";

    #[test]
    fn what_is_no_traceparent_begins_a_trace_of_its_own() {
        for wrong in [
            "",
            "00",
            "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7",
            "00-4BF92F3577B34DA6A3CE929D0E0E4736-00f067aa0ba902b7-01",
            "00-00000000000000000000000000000000-00f067aa0ba902b7-01",
            "00-4bf92f3577b34da6a3ce929d0e0e4736-0000000000000000-01",
            "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01-more",
            "ff-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01",
            "00-4bf92f3577b34da6a3ce929d0e0e473-600f067aa0ba902b7-01",
            "00-+bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01",
        ] {
            assert_eq!(TraceContext::parse(wrong), None, "{wrong}");
        }
    }

    #[test]
    fn a_later_version_is_read_as_far_as_it_is_known() {
        let later = "cc-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-03-what-comes";
        assert_eq!(TraceContext::parse(later), TraceContext::parse(SENT));
    }
}
