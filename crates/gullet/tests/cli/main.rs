//! Gullet driven through the built program, on files in temporary folders.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on should panic")]

mod attended;
mod beforehand;
mod boot;
mod calendar;
mod capture;
mod commands;
mod compare;
mod consistency;
mod definition;
mod docs;
mod drill;
mod exit_codes;
mod floors;
mod green;
mod guard;
mod harness;
mod held;
mod hold;
mod model;
mod output;
mod place;
mod place_limits;
mod planned;
mod preflight;
mod printed;
mod racing;
mod reader;
mod restore;
mod runs;
mod sealed;
mod secure;
mod store;
mod sweep;
mod trust;
mod verify;
