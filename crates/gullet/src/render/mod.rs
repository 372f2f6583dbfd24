//! What is shown, made of data: one file a thing that is shown.
//!
//! - [`metrics`]: figures for a metrics collector.
//! - [`message`]: what people are told of by mail, as text, as a page, and on one line.

pub mod message;
pub mod metrics;
