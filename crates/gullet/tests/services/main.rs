//! Gullet against real services: each test starts its own, in a temporary folder.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on should panic")]

mod browser;
mod ceph;
#[path = "../../../gullet-store/tests/conformance/mod.rs"]
mod conformance;
mod dav;
mod drill;
mod far;
mod group;
#[path = "../cli/harness.rs"]
#[allow(dead_code, reason = "shared with other tests")]
mod harness;
mod locked;
mod mail;
mod mariadb;
mod place;
mod postgres;
mod proxy;
mod recipes;
mod recipes_running;
mod running;
mod secrets;
mod servers;
mod ssh;
mod web;
