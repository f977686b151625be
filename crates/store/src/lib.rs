//! Arvok.
