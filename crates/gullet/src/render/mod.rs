//! What is shown, made of data: one file a thing that is shown.
//!
//! - [`metrics`]: figures for a metrics collector.
//! - [`plan`]: what a run would do, as a text that can be kept.
//! - [`overview`]: a report as a page and as CSV.
//! - [`reference`]: every key of a definition, for the terminal, as a document and as a manual page.
//! - [`message`]: what people are told of by mail, as text, as a page, and on one line.

pub mod message;
pub mod metrics;
pub mod overview;
pub mod plan;
pub mod reference;
