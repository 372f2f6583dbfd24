//! Whether what a run would start can be found and executed, and as whom. A run asks this too.

use std::collections::BTreeSet;
use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use super::Checks;
use gullet_capture::plan::Plan;
use gullet_host::hook::Account;
use gullet_host::permissions::changeable_by_others;
use gullet_model::definition::CommandSpec;
use gullet_model::words::{chain, count};

/// Every program that a run would start: is it there, and may it be executed?
pub(super) fn check_programs(plan: &Plan, checks: &mut Checks) {
    let mut programs = BTreeSet::new();
    let mut folders = BTreeSet::new();
    let mut accounts = BTreeSet::new();
    for command in &gullet_capture::kinds::commands(plan) {
        accounts.extend(wrong_account(command));
        programs.extend(program_of(command).map(str::to_owned));
        folders.extend(command.dir.clone());
    }
    let mut wrong = accounts.len();
    for found in accounts {
        checks.fail("hook", found, None);
    }
    for program in &programs {
        if let Err((found, advice)) = executable(program) {
            wrong += 1;
            checks.fail("hook", found, Some(advice.to_owned()));
        }
    }
    for folder in folders.iter().filter(|folder| !folder.is_dir()) {
        wrong += 1;
        checks.fail("hook", format!("the folder `{}` of a command is not there", folder.display()), None);
    }
    if wrong == 0 && !programs.is_empty() {
        let programs = count(programs.len() as u64, "program");
        checks.pass("hooks", format!("{programs} found, and may be executed"));
    }
}

fn program_of(command: &CommandSpec) -> Option<&str> {
    if command.asked().is_some() {
        return None;
    }
    let words = command.run.as_ref().or(command.interpreter.as_ref());
    words.map_or_else(|| command.script.as_ref().map(|_| "/bin/sh"), |words| words.first().map(String::as_str))
}

/// What is wrong with the program of a command, where it cannot be found or executed, or with the account that it runs as.
pub fn missing_program(command: &CommandSpec) -> Option<String> {
    let program = || executable(program_of(command)?).err().map(|(found, _)| found);
    wrong_account(command).or_else(program)
}

/// Why a command cannot run as the account that it asks for.
fn wrong_account(command: &CommandSpec) -> Option<String> {
    let account = Account::find(command.run_as.as_ref()?).and_then(|account| match command.through {
        Some(_) => Ok(()),
        None => account.prefix().map(drop),
    });
    account.err().map(|error| chain(&error))
}

/// Whether a program can be found and executed, as a hook would find it.
fn executable(program: &str) -> Result<(), (String, &'static str)> {
    let candidates: Vec<PathBuf> = if program.contains('/') {
        vec![PathBuf::from(program)]
    } else {
        gullet_host::hook::PATH.split(':').map(|folder| Path::new(folder).join(program)).collect()
    };
    let Some(found) = candidates.iter().find(|path| path.is_file()) else {
        let advice = "hooks look in a fixed PATH, the same by hand and by timer: give the whole path";
        return Err((format!("`{program}` is not found"), advice));
    };
    if rustix::process::geteuid().is_root()
        && let Some(why) = changeable_by_others(found)
    {
        let found = format!("`{}` would run as root, and others could change it: {why}", found.display());
        return Err((found, "let only root write to it and to the folders above it"));
    }
    let mode = fs::metadata(found).map(|meta| meta.permissions().mode()).unwrap_or(0);
    let access = rustix::fs::access(found, rustix::fs::Access::EXEC_OK);
    if mode & 0o111 == 0 || access.is_err() {
        return Err((format!("`{}` may not be executed", found.display()), "set its run bit: chmod +x"));
    }
    Ok(())
}
