//! What is shown, made of data: one file a thing that is shown.
//!
//! - [`message`]: what people are told of by mail, as text, as a page, and on one line.

pub mod message;
