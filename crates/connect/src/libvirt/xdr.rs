//! External data representation (RFC 4506), as far as libvirt's protocol has need of it. What is
//! read is bounded by what has come, whatever its lengths say.

use std::fmt;

/// What is written, value by value.
#[derive(Debug, Default)]
pub(super) struct Writer(pub Vec<u8>);

impl Writer {
    pub fn int(mut self, number: i32) -> Self {
        self.0.extend(number.to_be_bytes());
        self
    }

    pub fn unsigned(mut self, number: u32) -> Self {
        self.0.extend(number.to_be_bytes());
        self
    }

    pub fn hyper(mut self, number: u64) -> Self {
        self.0.extend(number.to_be_bytes());
        self
    }

    /// Bytes of a known number (section 4.9).
    pub fn fixed(mut self, bytes: &[u8]) -> Self {
        self.0.extend(bytes);
        self.0.extend(&[0; 3][..padding(bytes.len())]);
        self
    }

    /// Bytes with their number before them (section 4.10).
    pub fn bytes(self, bytes: &[u8]) -> Self {
        self.unsigned(u32::try_from(bytes.len()).unwrap_or(u32::MAX)).fixed(bytes)
    }

    pub fn text(self, text: &str) -> Self {
        self.bytes(text.as_bytes())
    }

    /// A text that may not be there (section 4.19).
    pub fn optional_text(self, text: Option<&str>) -> Self {
        match text {
            None => self.unsigned(0),
            Some(text) => self.unsigned(1).text(text),
        }
    }
}

/// How many zeros follow so many bytes.
const fn padding(length: usize) -> usize {
    (4 - length % 4) % 4
}

/// What came does not hold what it should.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Malformed;

impl fmt::Display for Malformed {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("what came cannot be read")
    }
}

/// What is read, value by value.
#[derive(Clone, Copy, Debug)]
pub(super) struct Reader<'a>(pub &'a [u8]);

impl<'a> Reader<'a> {
    fn take(&mut self, length: usize) -> Result<&'a [u8], Malformed> {
        let (taken, rest) = self.0.split_at_checked(length).ok_or(Malformed)?;
        self.0 = rest;
        Ok(taken)
    }

    fn array<const N: usize>(&mut self) -> Result<[u8; N], Malformed> {
        self.take(N)?.try_into().map_err(|_| Malformed)
    }

    pub fn int(&mut self) -> Result<i32, Malformed> {
        self.array().map(i32::from_be_bytes)
    }

    pub fn unsigned(&mut self) -> Result<u32, Malformed> {
        self.array().map(u32::from_be_bytes)
    }

    pub fn hyper(&mut self) -> Result<u64, Malformed> {
        self.array().map(u64::from_be_bytes)
    }

    pub fn signed_hyper(&mut self) -> Result<i64, Malformed> {
        self.array().map(i64::from_be_bytes)
    }

    pub fn double(&mut self) -> Result<f64, Malformed> {
        self.array().map(f64::from_be_bytes)
    }

    /// Bytes of a known number.
    pub fn fixed<const N: usize>(&mut self) -> Result<[u8; N], Malformed> {
        let bytes = self.array()?;
        self.take(padding(N))?;
        Ok(bytes)
    }

    pub fn bytes(&mut self) -> Result<&'a [u8], Malformed> {
        let length = self.unsigned()? as usize;
        let bytes = self.take(length)?;
        self.take(padding(length))?;
        Ok(bytes)
    }

    pub fn text(&mut self) -> Result<String, Malformed> {
        Ok(String::from_utf8_lossy(self.bytes()?).into_owned())
    }

    pub fn optional_text(&mut self) -> Result<Option<String>, Malformed> {
        Ok(match self.unsigned()? {
            0 => None,
            _ => Some(self.text()?),
        })
    }

    /// A list with its number of values before it (section 4.13). It holds no more than has come,
    /// since each value has four bytes at least.
    pub fn list<T>(
        &mut self,
        mut value: impl FnMut(&mut Self) -> Result<T, Malformed>,
    ) -> Result<Vec<T>, Malformed> {
        let length = self.unsigned()? as usize;
        if length > self.0.len() / 4 {
            return Err(Malformed);
        }
        (0..length).map(|_| value(self)).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn lengths_that_lie_are_no_values() {
        assert_eq!(Reader(&[0, 0, 0, 200, 1, 2, 3, 4]).bytes(), Err(Malformed));
        assert_eq!(Reader(&[0xff; 12]).list(|r| r.unsigned()), Err(Malformed));
        assert_eq!(Reader(&[0, 0, 0, 3, b'a', b'b', b'c']).text(), Err(Malformed), "no padding");
    }

    proptest! {
        #[test]
        fn what_is_written_is_read_again(text in ".{0,40}", number: u64, bytes: Vec<u8>) {
            let written = Writer::default().text(&text).hyper(number).bytes(&bytes);
            let written = written.optional_text(Some(&text)).optional_text(None).0;
            prop_assert_eq!(written.len() % 4, 0);
            let mut read = Reader(&written);
            prop_assert_eq!(read.text(), Ok(text.clone()));
            prop_assert_eq!(read.hyper(), Ok(number));
            prop_assert_eq!(read.bytes(), Ok(bytes.as_slice()));
            prop_assert_eq!(read.optional_text(), Ok(Some(text)));
            prop_assert_eq!(read.optional_text(), Ok(None));
            prop_assert!(read.0.is_empty());
        }
    }
}
