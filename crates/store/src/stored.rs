//! Words in rows. A word that this build does not know is an error which says so, and never taken
//! for another.

use arvok_core::{NoPrincipal, Principal, words::Words};
use sea_orm::{
    ColIdx, DbErr, QueryResult, TryGetError, TryGetable,
    sea_query::{ArrayType, ColumnType, Nullable, StringLen, Value, ValueType, ValueTypeErr},
};

/// A word as a row holds it: text.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Stored<T>(pub T);

impl<T: Words> TryGetable for Stored<T> {
    fn try_get_by<I: ColIdx>(row: &QueryResult, column: I) -> Result<Self, TryGetError> {
        let text = String::try_get_by(row, column)?;
        let unknown = || {
            let why = format!(
                "`{text}` is no {} that this build knows: a newer one may have written it",
                T::WHAT
            );
            TryGetError::DbErr(DbErr::Type(why))
        };
        T::parse(&text).map(Self).ok_or_else(unknown)
    }
}

impl<T: Words> From<Stored<T>> for Value {
    fn from(word: Stored<T>) -> Self {
        Self::from(word.0.as_str())
    }
}

impl<T: Words> Nullable for Stored<T> {
    fn null() -> Value {
        String::null()
    }
}

impl<T: Words> ValueType for Stored<T> {
    fn try_from(value: Value) -> Result<Self, ValueTypeErr> {
        let text = <String as ValueType>::try_from(value)?;
        T::parse(&text).map(Self).ok_or(ValueTypeErr)
    }

    fn type_name() -> String {
        T::WHAT.to_owned()
    }

    fn array_type() -> ArrayType {
        ArrayType::String
    }

    fn column_type() -> ColumnType {
        ColumnType::String(StringLen::None)
    }
}

/// Who did something, as a row holds it: its kind and its id, one text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StoredPrincipal(pub Principal);

impl TryGetable for StoredPrincipal {
    fn try_get_by<I: ColIdx>(row: &QueryResult, column: I) -> Result<Self, TryGetError> {
        let parsed = String::try_get_by(row, column)?.parse();
        parsed.map(Self).map_err(|e: NoPrincipal| TryGetError::DbErr(DbErr::Type(e.to_string())))
    }
}

impl From<StoredPrincipal> for Value {
    fn from(principal: StoredPrincipal) -> Self {
        Self::from(principal.0.to_string())
    }
}

impl Nullable for StoredPrincipal {
    fn null() -> Value {
        String::null()
    }
}

impl ValueType for StoredPrincipal {
    fn try_from(value: Value) -> Result<Self, ValueTypeErr> {
        <String as ValueType>::try_from(value)?.parse().map(Self).map_err(|_| ValueTypeErr)
    }

    fn type_name() -> String {
        "principal".to_owned()
    }

    fn array_type() -> ArrayType {
        ArrayType::String
    }

    fn column_type() -> ColumnType {
        ColumnType::String(StringLen::None)
    }
}
