//! What is written once and meant several times: `like`, `for_each` with `[[list.NAME]]`, and `{host}`.
//!
//! It is written out in the parsed text, before that is checked and read, so that nothing behind it knows of it: a record keeps
//! what was executed. Every value keeps the place where it was written.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;

use serde_json::{Value, json};
use toml::Spanned;
use toml::de::{DeArray, DeTable, DeValue};

use super::check::{nearest, properties_of};
use super::flaw::{Flaw, Source};
use super::placeholders;

const LIKE: &str = "like";
const FOR_EACH: &str = "for_each";
const LIST: &str = "list";
const APP: &str = "app";
const STATE: &str = "state";

/// Placeholders that mean something else already.
const TAKEN: [&str; 8] = ["each", "exports", "fact", "files", "folder", "host", "run", "scratch"];

/// The lists of tables in an application in which `for_each` may stand, and what their tables are in the schema.
const TEMPLATES: [(&[&str], &str); 6] = [
    (&["part"], "Part"),
    (&["hold"], "HoldStep"),
    (&["require"], "Require"),
    (&["restore", "before_start"], "Require"),
    (&["restore", "checks"], "Require"),
    (&["drill", "checks"], "Require"),
];

type Table<'t> = DeTable<'t>;
type SpannedValue<'t> = Spanned<DeValue<'t>>;

/// Adds the keys of this module to the schema of a definition: the types do not have them, since they are written out before.
pub(super) fn add_keys(schema: &mut Value) {
    let text = |about: &str| json!({ "type": ["string", "null"], "description": about });
    let for_each = text(
        "The name of a list (`[[list.NAME]]`): this table is written once and meant once for each item, with `{NAME.KEY}` in its \
         texts. A key of the item that no text names, and that is a key of this table, stands in it instead of what is written here. \
         Without it the table is meant once.",
    );
    for title in ["App", "Part", "HoldStep", "Require"] {
        schema["$defs"][title]["properties"][FOR_EACH] = for_each.clone();
    }
    schema["$defs"]["App"]["properties"][LIKE] = text(
        "Another application of this file: everything is as there, but for the keys that stand here. Tables are joined key by key, \
         lists of named tables (`part`, `hold`) by their names; other lists and values are replaced. Without it the \
         application is what stands here.",
    );
    schema["properties"][LIST] = json!({
        "type": "object",
        "description": "Lists of items, for `for_each`: `[[list.NAME]]`, each with keys of your own. Without one nothing can be written `for_each`.",
        "additionalProperties": {
            "type": "array",
            "items": { "type": "object", "title": "an item of a list", "additionalProperties": true },
        },
    });
}

/// Writes everything out, and gives what is wrong. `host` is the name of this machine.
pub(super) fn expand(table: &mut Table<'_>, source: &Source, host: &str) -> Vec<Flaw> {
    let mut expansion = Expansion { source, host, lists: lists_of(table), used: BTreeSet::new(), flaws: Vec::new() };
    expansion.check_names(table);
    if let Some(DeValue::Table(apps)) = table.get_mut(APP).map(Spanned::get_mut) {
        expansion.inherit(apps);
        expansion.apps(apps);
    }
    expansion.unused_keys();
    for (key, value) in table.iter_mut() {
        match key.get_ref().as_ref() {
            LIST => {}
            STATE => expansion.check_state(value),
            _ => texts_of(value, &mut |text, range| expansion.with_host(text, range)),
        }
    }
    expansion.flaws
}

/// Takes the lists away, which were checked and are written out.
pub(super) fn take_lists(table: &mut Table<'_>) {
    table.remove(LIST);
}

struct Expansion<'s, 't> {
    source: &'s Source,
    host: &'s str,
    lists: BTreeMap<String, Vec<Spanned<Table<'t>>>>,
    /// List, item and key that something names.
    used: BTreeSet<(String, usize, String)>,
    flaws: Vec<Flaw>,
}

/// Lists of tables; what is anything else is left to the schema.
fn lists_of<'t>(table: &Table<'t>) -> BTreeMap<String, Vec<Spanned<Table<'t>>>> {
    let Some(DeValue::Table(lists)) = table.get(LIST).map(Spanned::get_ref) else { return BTreeMap::new() };
    let items = |value: &SpannedValue<'t>| match value.get_ref() {
        DeValue::Array(items) => {
            items.iter().filter_map(|item| Some(Spanned::new(item.span(), as_table(item)?.clone()))).collect()
        }
        _ => Vec::new(),
    };
    lists.iter().map(|(name, value)| (name.get_ref().to_string(), items(value))).collect()
}

fn as_table<'v, 't>(value: &'v SpannedValue<'t>) -> Option<&'v Table<'t>> {
    match value.get_ref() {
        DeValue::Table(table) => Some(table),
        _ => None,
    }
}

fn array_at<'v, 't>(table: &'v mut Table<'t>, path: &[&str]) -> Option<&'v mut DeArray<'t>> {
    let (first, rest) = path.split_first()?;
    match table.get_mut(*first)?.get_mut() {
        DeValue::Array(array) if rest.is_empty() => Some(array),
        DeValue::Table(table) => array_at(table, rest),
        _ => None,
    }
}

fn text_of<'v>(table: &'v Table<'_>, key: &str) -> Option<(&'v str, Range<usize>)> {
    let value = table.get(key)?;
    Some((value.get_ref().as_str()?, value.span()))
}

impl<'t> Expansion<'_, 't> {
    fn flaw(&mut self, app: Option<&str>, range: Range<usize>, message: String, hint: Option<String>) {
        self.flaws.push(Flaw::at(self.source, range, message, hint).of_app(app.map(str::to_owned)));
    }

    fn check_names(&mut self, table: &Table<'_>) {
        let Some(lists) = table.get(LIST).and_then(as_table) else { return };
        for key in lists.keys() {
            let name = key.get_ref().as_ref();
            if let Err(message) = super::rules::check_name("a list", name) {
                self.flaw(None, key.span(), message.to_string(), None);
            } else if TAKEN.contains(&name) {
                let message = format!("a list cannot be called `{name}`: `{{{name}}}` means something else already");
                self.flaw(None, key.span(), message, None);
            }
        }
    }

    // ---- like ----

    /// Fills in what applications have from others.
    fn inherit(&mut self, apps: &mut Table<'t>) {
        let written = apps.clone();
        for (name, value) in apps.iter_mut() {
            let app = name.get_ref().as_ref();
            match self.inherited(&written, app, &mut Vec::new()) {
                Ok(Some(table)) => *value = Spanned::new(value.span(), DeValue::Table(table)),
                Ok(None) => {}
                Err((range, message, hint)) => self.flaw(Some(app), range, message, hint),
            }
        }
    }

    /// An application with everything that it has from others; none where it has nothing from others.
    #[allow(
        clippy::type_complexity,
        reason = "the error is a place, a message and a hint, and goes no further than `inherit`"
    )]
    fn inherited(
        &self,
        written: &Table<'t>,
        app: &str,
        trail: &mut Vec<String>,
    ) -> Result<Option<Table<'t>>, (Range<usize>, String, Option<String>)> {
        let Some(own) = written.get(app).and_then(as_table) else { return Ok(None) };
        let Some((other, range)) = text_of(own, LIKE) else { return Ok(None) };
        trail.push(app.to_owned());
        if trail.iter().any(|name| name == other) {
            let message = format!("`{}` is like itself: {} → {other}", trail[0], trail.join(" → "));
            return Err((range, message, None));
        }
        let Some(base) = written.get(other).and_then(as_table) else {
            let known = written.keys().map(|key| key.get_ref().as_ref()).filter(|name| *name != app);
            let hint = nearest(other, known).map(|near| format!("did you mean \"{near}\"?"));
            return Err((range, format!("there is no application `{other}` in this file"), hint));
        };
        let mut base = self.inherited(written, other, trail)?.unwrap_or_else(|| base.clone());
        base.remove(LIKE);
        base.remove(FOR_EACH);
        let mut own = own.clone();
        own.remove(LIKE);
        join(&mut base, own);
        Ok(Some(base))
    }

    // ---- for_each ----

    fn apps(&mut self, apps: &mut Table<'t>) {
        let written = std::mem::take(apps);
        for (name, value) in written {
            let app = name.get_ref().to_string();
            let mut instances = vec![(name.clone(), value.clone())];
            if let Some(template) = as_table(&value)
                && let Some((list, range)) = text_of(template, FOR_EACH)
            {
                let prefix = format!("{list}.");
                if !placeholders::names(&app).iter().any(|name| name.starts_with(&prefix)) {
                    let message = format!("all applications of the list would be called `{app}`");
                    let hint = format!("name it with a key of the list: [app.\"{app}-{{{list}.name}}\"]");
                    self.flaw(Some(&app), range, message, Some(hint));
                } else if let Some(made) = self.instances(&app, template, "App") {
                    let placed = |(of_item, table): (String, Table<'t>)| {
                        let table = Spanned::new(value.span(), DeValue::Table(table));
                        (Spanned::new(name.span(), of_item.into()), table)
                    };
                    instances = made.into_iter().map(placed).collect();
                }
            }
            for (name, mut value) in instances {
                let app = name.get_ref().to_string();
                if apps.contains_key(app.as_str()) {
                    self.flaw(Some(&app), name.span(), format!("there is an application `{app}` already"), None);
                }
                if let DeValue::Table(table) = value.get_mut() {
                    self.lists_in(&app, table);
                }
                apps.insert(name, value);
            }
        }
    }

    /// The items of a list, which must be there.
    fn items(&mut self, app: &str, list: &str, range: Range<usize>) -> Option<Vec<Spanned<Table<'t>>>> {
        let found = self.lists.get(list).cloned();
        if found.is_none() {
            let hint =
                nearest(list, self.lists.keys().map(String::as_str)).map(|near| format!("did you mean \"{near}\"?"));
            let hint = hint.unwrap_or_else(|| format!("write its items: [[list.{list}]] with a name each"));
            self.flaw(Some(app), range, format!("there is no list `{list}` in this file"), Some(hint));
        }
        found
    }

    /// Writes out every `for_each` in the lists of an application.
    fn lists_in(&mut self, app: &str, table: &mut Table<'t>) {
        for (path, kind) in TEMPLATES {
            let Some(array) = array_at(table, path) else { continue };
            let mut all = DeArray::new();
            for value in std::mem::replace(array, DeArray::new()) {
                match as_table(&value).and_then(|template| self.instances(app, template, kind)) {
                    Some(made) => made
                        .into_iter()
                        .for_each(|(_, table)| all.push(Spanned::new(value.span(), DeValue::Table(table)))),
                    None => all.push(value),
                }
            }
            *array = all;
        }
    }

    /// What a table with `for_each` means: one for each item, with the application's name as it is of that item; none where it has no
    /// `for_each`.
    fn instances(&mut self, app: &str, template: &Table<'t>, kind: &str) -> Option<Vec<(String, Table<'t>)>> {
        let (list, range) = text_of(template, FOR_EACH)?;
        let items = self.items(app, list, range.clone())?;
        let mut made = Vec::new();
        for (number, item) in items.iter().enumerate() {
            let item = ListItem { list, number, keys: item.get_ref() };
            let name = self.filled(app, app, range.clone(), &item).and_then(|name| plain_text(&name));
            let mut table = template.clone();
            table.remove(FOR_EACH);
            self.fill_table(app, &mut table, &item, kind);
            made.push((name.unwrap_or_else(|| app.to_owned()), table));
        }
        Some(made)
    }

    /// Fills an item into a template: into its texts, and its other keys over those of the template.
    fn fill_table(&mut self, app: &str, table: &mut Table<'t>, item: &ListItem<'_, 't>, kind: &str) {
        // A key that another template names may be one that stands over a key of this one.
        let elsewhere = std::mem::take(&mut self.used);
        texts_in(table, &mut |text, range| self.filled(app, text, range, item));
        let known = properties_of(kind);
        for (key, value) in item.keys {
            let name = key.get_ref().as_ref();
            let use_of = (item.list.to_owned(), item.number, name.to_owned());
            let may_stand_over = known.is_some_and(|known| known.contains_key(name));
            if may_stand_over && self.used.insert(use_of) {
                table.remove(name);
                table.insert(key.clone(), value.clone());
            }
        }
        self.used.extend(elsewhere);
    }

    /// A text with an item filled in; none where it names nothing of it.
    fn filled(&mut self, app: &str, text: &str, range: Range<usize>, item: &ListItem<'_, 't>) -> Option<DeValue<'t>> {
        let prefix = format!("{}.", item.list);
        let keys: Vec<String> =
            placeholders::names(text).iter().filter_map(|name| name.strip_prefix(&prefix)).map(str::to_owned).collect();
        let mut texts = BTreeMap::new();
        for key in &keys {
            let name = format!("{prefix}{key}");
            let Some(value) = item.keys.get(key.as_str()) else {
                let message = format!("item {} of the list `{}` has no `{key}`", item.number + 1, item.list);
                self.flaw(Some(app), range, message, None);
                return None;
            };
            self.used.insert((item.list.to_owned(), item.number, key.clone()));
            if text == format!("{{{name}}}") {
                // It stands alone: whatever it is, a number or a list as well.
                return Some(value.get_ref().clone());
            }
            let Some(plain) = plain_text(value.get_ref()) else {
                let message = format!("`{{{name}}}` is a list or a table, and cannot stand within a text");
                self.flaw(Some(app), range, message, None);
                return None;
            };
            texts.insert(name, plain);
        }
        (!keys.is_empty()).then(|| text_value(placeholders::replace(text, |name| texts.get(name).cloned())))
    }

    /// A key of an item that nothing names is most likely misspelt.
    fn unused_keys(&mut self) {
        let mut unused = Vec::new();
        for (list, items) in &self.lists {
            for (number, item) in items.iter().enumerate() {
                for key in item.get_ref().keys() {
                    let name = key.get_ref().to_string();
                    if !self.used.contains(&(list.clone(), number, name.clone())) {
                        unused.push((key.span(), format!("nothing uses `{name}`: no text has `{{{list}.{name}}}`, and no table that is written for each of `{list}` has such a key")));
                    }
                }
            }
        }
        // What is wrong with a list's use is said there; that its keys are unused follows from it.
        if self.flaws.is_empty() {
            unused.into_iter().for_each(|(range, message)| self.flaw(None, range, message, None));
        }
    }

    // ---- {host} ----

    /// What is held is noted in the state folder: a machine with a new name would look for it elsewhere.
    fn check_state(&mut self, value: &SpannedValue<'t>) {
        if value.get_ref().as_str().is_some_and(|text| placeholders::names(text).contains(&"host")) {
            let message = "the state folder must not depend on the machine's name".to_owned();
            let hint =
                "under another name the machine would not know what it holds; the folder is this machine's own anyway";
            self.flaw(None, value.span(), message, Some(hint.to_owned()));
        }
    }

    /// A text with the machine's name filled in; none where it does not ask for it.
    fn with_host(&mut self, text: &str, range: Range<usize>) -> Option<DeValue<'t>> {
        if !placeholders::names(text).contains(&"host") {
            return None;
        }
        let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.');
        if self.host.starts_with(|c: char| c.is_ascii_alphanumeric()) && self.host.chars().all(plain) {
            let filled = placeholders::replace(text, |name| (name == "host").then(|| self.host.to_owned()));
            return Some(text_value(filled));
        }
        let message = format!("the name of this machine, `{}`, cannot stand for `{{host}}`", self.host.escape_debug());
        self.flaw(None, range, message, Some("a name of letters, digits, `-`, `_` and `.` can".to_owned()));
        None
    }
}

/// An item of a list that is filled in.
struct ListItem<'v, 't> {
    list: &'v str,
    number: usize,
    keys: &'v Table<'t>,
}

/// What is put in the place of a text that stands somewhere; none where it stays.
type Change<'c, 't> = dyn FnMut(&str, Range<usize>) -> Option<DeValue<'t>> + 'c;

/// Changes every text of a value. The text of a script is left alone: a shell has such braces itself.
fn texts_of<'t>(value: &mut SpannedValue<'t>, change: &mut Change<'_, 't>) {
    let range = value.span();
    match value.get_mut() {
        DeValue::Table(table) => texts_in(table, change),
        DeValue::Array(array) => array.iter_mut().for_each(|value| texts_of(value, change)),
        DeValue::String(text) => {
            if let Some(changed) = change(text, range) {
                *value.get_mut() = changed;
            }
        }
        _ => {}
    }
}

fn texts_in<'t>(table: &mut Table<'t>, change: &mut Change<'_, 't>) {
    let is_script = |key: &str, value: &SpannedValue<'_>| key == "script" && value.get_ref().is_str();
    for (_, value) in table.iter_mut().filter(|(key, value)| !is_script(key.get_ref(), value)) {
        texts_of(value, change);
    }
}

fn text_value<'t>(text: String) -> DeValue<'t> {
    DeValue::String(text.into())
}

fn plain_text(value: &DeValue<'_>) -> Option<String> {
    match value {
        DeValue::String(text) => Some(text.to_string()),
        DeValue::Integer(number) => {
            i64::from_str_radix(number.as_str(), number.radix()).ok().map(|number| number.to_string())
        }
        DeValue::Float(number) => Some(number.as_str().to_owned()),
        DeValue::Boolean(value) => Some(value.to_string()),
        DeValue::Datetime(value) => Some(value.to_string()),
        DeValue::Array(_) | DeValue::Table(_) => None,
    }
}

/// Joins what stands here over what stands there.
fn join<'t>(base: &mut Table<'t>, own: Table<'t>) {
    for (key, value) in own {
        let joined = match base.remove(key.get_ref().as_ref()) {
            Some(there) => joined(there, value),
            None => value,
        };
        base.insert(key, joined);
    }
}

fn joined<'t>(base: SpannedValue<'t>, own: SpannedValue<'t>) -> SpannedValue<'t> {
    let range = own.span();
    let value = match (base.into_inner(), own.into_inner()) {
        (DeValue::Table(mut base), DeValue::Table(own)) => {
            join(&mut base, own);
            DeValue::Table(base)
        }
        (DeValue::Array(base), DeValue::Array(own)) if all_named(&base) && all_named(&own) => {
            let mut items: Vec<SpannedValue<'t>> = base.into_iter().collect();
            for item in own {
                match items.iter().position(|there| name_of(there) == name_of(&item)) {
                    Some(at) => items[at] = joined(items[at].clone(), item),
                    None => items.push(item),
                }
            }
            let mut array = DeArray::new();
            items.into_iter().for_each(|item| array.push(item));
            DeValue::Array(array)
        }
        (_, own) => own,
    };
    Spanned::new(range, value)
}

fn name_of<'v>(value: &'v SpannedValue<'_>) -> Option<&'v str> {
    as_table(value)?.get("name")?.get_ref().as_str()
}

fn all_named(array: &DeArray<'_>) -> bool {
    array.iter().all(|item| name_of(item).is_some())
}
