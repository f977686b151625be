//! Closed lists of words: one enum each, from which formats, records, descriptions and pages take
//! them.

/// An enum whose variants are words.
pub trait Words: Copy + Eq + 'static {
    /// All of them, in their order.
    const ALL: &'static [Self];
    /// What such a word names, for messages: `job state`.
    const WHAT: &'static str;

    /// The word used in every format.
    fn as_str(self) -> &'static str;

    /// The variant named by a word.
    fn parse(text: &str) -> Option<Self> {
        Self::ALL.iter().copied().find(|one| one.as_str() == text)
    }
}

/// Makes an enum of words. Each variant is written with its word, once: `Queued = "queued"`. Serde,
/// [`Words`], `ALL`, `as_str`, `parse` and `Display` follow from that; further derives are written
/// above it.
///
/// ```
/// arvok_core::words! {
///     /// How a door stands.
///     #[derive(Default)]
///     pub enum DoorState("door state") {
///         /// Nobody gets in.
///         #[default]
///         Shut = "shut",
///         /// Anybody does.
///         WideOpen = "wide-open",
///     }
/// }
///
/// assert_eq!(DoorState::parse("wide-open"), Some(DoorState::WideOpen));
/// assert_eq!(DoorState::ALL.map(DoorState::as_str), ["shut", "wide-open"]);
/// assert_eq!(serde_json::to_value(DoorState::default()).ok(), Some("shut".into()));
/// ```
#[macro_export]
macro_rules! words {
    ($(#[$meta:meta])* $vis:vis enum $name:ident($what:literal) {
        $($(#[$about:meta])* $variant:ident = $word:tt),+ $(,)?
    }) => {
        $(#[$meta])*
        #[derive(
            Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, ::serde::Serialize,
                ::serde::Deserialize,
        )]
        $vis enum $name {
            $($(#[$about])* #[serde(rename = $word)] $variant),+
        }

        impl $name {
            /// All of them.
            $vis const ALL: [Self; { [$($word),+].len() }] = [$(Self::$variant),+];

            /// The word used in every format.
            $vis const fn as_str(self) -> &'static str {
                match self {
                    $(Self::$variant => $word),+
                }
            }

            /// The variant named by a word.
            $vis fn parse(text: &str) -> Option<Self> {
                <Self as $crate::words::Words>::parse(text)
            }
        }

        impl $crate::words::Words for $name {
            const ALL: &'static [Self] = &$name::ALL;
            const WHAT: &'static str = $what;

            fn as_str(self) -> &'static str {
                $name::as_str(self)
            }
        }

        impl ::std::fmt::Display for $name {
            fn fmt(&self, f: &mut ::std::fmt::Formatter<'_>) -> ::std::fmt::Result {
                f.write_str(self.as_str())
            }
        }
    };
}
