//! Values that a definition writes as short texts: spans of time and shares.

use std::borrow::Cow;
use std::fmt;
use std::str::FromStr;
use std::time::Duration;

use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::reason::Reason;
use crate::words::millis;

/// A span of time: `"250ms"`, `"30s"`, `"5m"`, `"2h"`, `"3d"`, `"2w"`, or several of them as in `"1h30m"`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Span(pub Duration);

const UNITS: [(&str, u64); 6] =
    [("ms", 1), ("s", 1000), ("m", 60_000), ("h", 3_600_000), ("d", 86_400_000), ("w", 604_800_000)];

/// A span of time is at most so long, in milliseconds: 36,500 days, so that added to any time it gives a time.
const LONGEST_MS: u64 = 36_500 * 86_400_000;

impl FromStr for Span {
    type Err = Reason;

    fn from_str(text: &str) -> Result<Self, Reason> {
        let wrong =
            || Reason::new(format!("`{text}` is not a span of time; write for example \"30s\", \"5m\" or \"1h30m\""));
        let mut rest = text.trim();
        let mut total = 0u64;
        if rest.is_empty() {
            return Err(wrong());
        }
        while !rest.is_empty() {
            let digits = rest.find(|c: char| !c.is_ascii_digit()).ok_or_else(wrong)?;
            let (number, after) = rest.split_at(digits);
            let letters = after.find(|c: char| !c.is_ascii_alphabetic()).unwrap_or(after.len());
            let (unit, after) = after.split_at(letters);
            let number: u64 = number.parse().map_err(|_| wrong())?;
            let (_, size) = UNITS.iter().find(|(name, _)| *name == unit).ok_or_else(wrong)?;
            total = number.checked_mul(*size).and_then(|ms| total.checked_add(ms)).ok_or_else(wrong)?;
            rest = after;
        }
        if total > LONGEST_MS {
            return Err(Reason::new(format!("`{text}` is too long a span of time; at most \"36500d\" can be said")));
        }
        Ok(Self(Duration::from_millis(total)))
    }
}

impl fmt::Display for Span {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut rest = millis(self.0);
        if rest == 0 {
            return f.write_str("0s");
        }
        // Weeks are read but days are easier to compare, so they are not written.
        for (unit, size) in UNITS[..5].iter().rev() {
            if rest >= *size {
                write!(f, "{}{unit}", rest / size)?;
                rest %= size;
            }
        }
        Ok(())
    }
}

/// A share in percent: `"10%"`.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Share(pub f64);

impl FromStr for Share {
    type Err = Reason;

    fn from_str(text: &str) -> Result<Self, Reason> {
        let number = text.trim().strip_suffix('%').and_then(|number| number.trim().parse::<f64>().ok());
        let number = number.filter(|number| (0.0..=100.0).contains(number));
        number.map(Self).ok_or_else(|| Reason::new(format!("`{text}` is not a share; write for example \"10%\"")))
    }
}

impl fmt::Display for Share {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}%", self.0)
    }
}

/// So many days, weeks, months or years of the calendar: `"14d"`, `"2w"`, `"3m"`, `"10y"`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Period {
    number: i32,
    unit: char,
}

impl Period {
    /// As a span of the calendar.
    pub fn span(self) -> jiff::Span {
        let span = jiff::Span::new();
        match self.unit {
            'd' => span.days(self.number),
            'w' => span.weeks(self.number),
            'm' => span.months(self.number),
            _ => span.years(self.number),
        }
    }
}

impl FromStr for Period {
    type Err = Reason;

    fn from_str(text: &str) -> Result<Self, Reason> {
        let split = text.trim().split_at_checked(text.trim().len().saturating_sub(1));
        let parsed = split.and_then(|(number, unit)| {
            let unit = unit.chars().next().filter(|unit| "dwmy".contains(*unit))?;
            let number = number.bytes().all(|byte| byte.is_ascii_digit()).then(|| number.parse().ok())??;
            (1..=999).contains(&number).then_some(Self { number, unit })
        });
        parsed.ok_or_else(|| {
            Reason::new(format!(
                "`{text}` is no time to keep runs for; write for example \"14d\", \"2w\", \"3m\" for months or \"10y\""
            ))
        })
    }
}

impl fmt::Display for Period {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}{}", self.number, self.unit)
    }
}

macro_rules! as_text {
    ($type:ty, $name:literal, $format:literal, $about:literal) => {
        impl Serialize for $type {
            fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
                serializer.collect_str(self)
            }
        }

        impl<'de> Deserialize<'de> for $type {
            fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
                String::deserialize(deserializer)?.parse().map_err(serde::de::Error::custom)
            }
        }

        impl JsonSchema for $type {
            fn schema_name() -> Cow<'static, str> {
                $name.into()
            }

            fn json_schema(_: &mut SchemaGenerator) -> Schema {
                json_schema!({ "type": "string", "format": $format, "description": $about })
            }
        }
    };
}

as_text!(Span, "Span", "span", "A span of time: \"250ms\", \"30s\", \"5m\", \"2h\", \"3d\", \"2w\" or \"1h30m\".");
as_text!(Period, "Period", "period", "Days, weeks, months or years: \"14d\", \"2w\", \"3m\", \"10y\".");
as_text!(Share, "Share", "share", "A share in percent: \"10%\".");

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_span_reads_back_from_its_text(ms in 0u64..10_000_000_000) {
            let span = Span(Duration::from_millis(ms));
            prop_assert_eq!(span.to_string().parse::<Span>().unwrap(), span);
        }

        #[test]
        fn no_text_is_a_panic(text in ".{0,12}") {
            let _ = text.parse::<Span>();
            let _ = text.parse::<Share>();
        }
    }

    #[test]
    fn spans_and_shares_say_what_is_wrong() {
        assert_eq!("1h30m".parse::<Span>().unwrap().0, Duration::from_secs(5400));
        assert_eq!("2w".parse::<Span>().unwrap().to_string(), "14d");
        for wrong in ["", "5", "m", "5 minutes", "5x", "-5s", "99999999999999999999s", "18446744073709551615w"] {
            assert!(wrong.parse::<Span>().unwrap_err().to_string().contains("span of time"), "{wrong}");
        }
        assert_eq!("12.5%".parse::<Share>().unwrap(), Share(12.5));
        for wrong in ["10", "-1%", "101%", "%", "NaN%"] {
            assert!(wrong.parse::<Share>().is_err(), "{wrong}");
        }
    }
}
