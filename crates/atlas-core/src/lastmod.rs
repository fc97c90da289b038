//! Dates as the sitemaps protocol 0.9 writes them: a day, or an instant with its zone.

use std::fmt;
use std::ops::RangeInclusive;

use jiff::civil::{Date, DateTime, Time};
use jiff::fmt::temporal::Pieces;
use jiff::tz::{Offset, TimeZone};
use jiff::{Timestamp, ToSpan};
use serde::{Serialize, Serializer};

/// When a page last changed in a way that matters, or when it was published: a day, or an instant to the second with
/// the offset in which it was stated. Written in one of the two W3C Datetime forms that the published schema accepts.
///
/// ```
/// use atlas_core::lastmod::Lastmod;
/// use jiff::tz::TimeZone;
///
/// let london = TimeZone::get("Europe/London").unwrap();
/// assert_eq!(Lastmod::read("2026-07-04", &london).unwrap().to_string(), "2026-07-04");
/// assert_eq!(Lastmod::read("2026-07-04 09:30", &london).unwrap().to_string(), "2026-07-04T09:30:00+01:00");
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Lastmod {
    /// A day, without a zone.
    Day(Date),
    /// An instant, in seconds since 1970-01-01T00:00:00Z, and the offset east of UTC in minutes.
    Instant {
        /// Seconds since the Unix epoch.
        seconds: i64,
        /// Minutes east of UTC.
        offset: i16,
    },
}

/// The number of bytes of [`Lastmod::to_bytes`].
pub const BYTES: usize = 10;
const NO_OFFSET: i16 = i16::MIN;
/// The years 0000 to 9999, in seconds since 1970.
const IN_RANGE: RangeInclusive<i64> = -62_167_219_200..=253_402_300_799;

impl Lastmod {
    /// Whether both mean the same: the same day, or the same instant in any zone.
    pub fn is_same(&self, other: &Self) -> bool {
        match (self, other) {
            (Self::Instant { seconds: one, .. }, Self::Instant { seconds: other, .. }) => one == other,
            _ => self == other,
        }
    }

    /// Reads the formats that people and programs write: W3C Datetime in all its forms, ISO 8601 with a space or
    /// without colons in the zone, RFC 2822, and seconds or milliseconds since 1970 (10 or 13 digits). A time without a
    /// zone is in `timezone`. Returns `None` if the text is not a date, or lies outside the years 0000 to 9999.
    ///
    /// A year or month alone (`2026`, `2026-07`) is read as its first day, because the date certainly lies on or after
    /// it.
    pub fn read(text: &str, timezone: &TimeZone) -> Option<Self> {
        let text = text.trim_ascii();
        if let Some(read) = Self::read_short(text).or_else(|| Self::read_usual(text)) {
            return Some(read);
        }
        let Ok(pieces) = Pieces::parse(text) else { return Self::read_epoch(text).or_else(|| Self::read_mail(text)) };
        let Some(time) = pieces.time() else { return Some(Self::Day(pieces.date())).filter(Self::in_range) };
        let datetime = pieces.date().to_datetime(time);
        match pieces.to_numeric_offset() {
            Some(offset) => Self::at_offset(datetime, offset),
            None => Self::in_zone(datetime, timezone),
        }
    }

    /// Reads `YYYY` and `YYYY-MM`.
    fn read_short(text: &str) -> Option<Self> {
        let (year, month) = match text.len() {
            4 => (text, "01"),
            7 if text.as_bytes()[4] == b'-' => (&text[..4], &text[5..]),
            _ => return None,
        };
        let digits = |part: &str| part.bytes().all(|byte| byte.is_ascii_digit()).then(|| part.parse::<i16>().ok())?;
        Date::new(digits(year)?, i8::try_from(digits(month)?).ok()?, 1).ok().map(Self::Day)
    }

    /// Reads the form that programs write most, `2026-11-23T07:07:29Z`, without a general parser: there may be a
    /// million of them.
    fn read_usual(text: &str) -> Option<Self> {
        let bytes: &[u8; 20] = text.as_bytes().try_into().ok()?;
        let digits = |mark: u8, byte: u8| if mark == b'0' { byte.is_ascii_digit() } else { byte == mark };
        if !b"0000-00-00T00:00:00Z".iter().zip(bytes).fold(true, |all, (mark, byte)| all & digits(*mark, *byte)) {
            return None;
        }
        let two = |at: usize| ((bytes[at] - b'0') * 10 + (bytes[at + 1] - b'0')) as i8;
        let year = i16::from(two(0)) * 100 + i16::from(two(2));
        let datetime = DateTime::new(year, two(5), two(8), two(11), two(14), two(17), 0).ok()?;
        Self::at_offset(datetime, Offset::UTC)
    }

    /// Reads seconds since 1970 (10 digits) or milliseconds (13 digits), both from 2001 to 2286.
    fn read_epoch(text: &str) -> Option<Self> {
        let whole = text.split_once('.').map_or(text, |(whole, _)| whole);
        let number: i64 = whole.parse().ok()?;
        match whole.len() {
            10 => Some(Self::Instant { seconds: number, offset: 0 }),
            13 => Some(Self::Instant { seconds: number.div_euclid(1000), offset: 0 }),
            _ => None,
        }
    }

    /// Reads the form of mail headers and RSS: `Mon, 23 Nov 2026 07:07:29 GMT`.
    fn read_mail(text: &str) -> Option<Self> {
        let zoned = jiff::fmt::rfc2822::parse(text).ok()?;
        Self::at_offset(zoned.datetime(), zoned.offset())
    }

    /// Reads the date of a robots directive `unavailable_after`. Other directives may follow after a comma, and the
    /// date may contain commas. Accepts everything that [`Lastmod::read`] does, and RFC 822 and RFC 850 with two-digit
    /// years and names of zones.
    ///
    /// ```
    /// use atlas_core::lastmod::Lastmod;
    /// use jiff::tz::TimeZone;
    ///
    /// for text in ["25 Jun 2027 15:00:00 PST", "Friday, 25-Jun-27 15:00:00 PST", "2027-06-25T23:00:00Z, nofollow"] {
    ///     let date = Lastmod::read_deadline(text, &TimeZone::UTC).unwrap();
    ///     assert_eq!(date.seconds(), 1_813_964_400, "{text}");
    /// }
    /// ```
    pub fn read_deadline(text: &str, timezone: &TimeZone) -> Option<Self> {
        let commas = text.match_indices(',').map(|(at, _)| at).rev();
        std::iter::once(text.len()).chain(commas).find_map(|end| {
            let text = text[..end].trim();
            Self::read(text, timezone).or_else(|| Self::read_spelt(text, timezone))
        })
    }

    /// Reads `Friday, 25-Jun-27 15:00:00 PST` and similar: day, name of the month, year, optionally a time and a zone.
    fn read_spelt(text: &str, timezone: &TimeZone) -> Option<Self> {
        const MONTHS: &str = "jan feb mar apr may jun jul aug sep oct nov dec";
        const ZONES: [(&str, i32); 12] = [
            ("ut", 0),
            ("utc", 0),
            ("gmt", 0),
            ("z", 0),
            ("est", -5),
            ("edt", -4),
            ("cst", -6),
            ("cdt", -5),
            ("mst", -7),
            ("mdt", -6),
            ("pst", -8),
            ("pdt", -7),
        ];
        let lower = text.to_ascii_lowercase();
        let day_first = lower.split_once(',').map_or(lower.as_str(), |(_, rest)| rest);
        let mut words = day_first.split([' ', '-', '\t']).filter(|word| !word.is_empty()).peekable();
        if words.peek()?.bytes().all(|byte| byte.is_ascii_alphabetic()) {
            // The day of the week, without a comma after it.
            words.next();
        }
        let day: i8 = words.next()?.parse().ok()?;
        let name = words.next()?.get(..3)?;
        let month = MONTHS.split(' ').position(|month| month == name)? as i8 + 1;
        let year = words.next()?;
        let year = match (year.len(), year.parse::<i16>().ok()?) {
            (2, short) if short < 70 => 2000 + short,
            (2, short) => 1900 + short,
            (4, year) => year,
            _ => return None,
        };
        let date = Date::new(year, month, day).ok()?;
        let Some(time) = words.next() else { return Some(Self::Day(date)) };
        let time: Time = time.parse().ok()?;
        let zone = words.next();
        match zone {
            None => Self::in_zone(date.to_datetime(time), timezone),
            Some(name) => {
                let named = ZONES.iter().find(|(known, _)| *known == name).map(|(_, hours)| hours * 3600);
                let stated = || {
                    let (hours, minutes) = name.trim_start_matches('+').split_at_checked(2)?;
                    Some(hours.parse::<i32>().ok()? * 3600 + minutes.trim_start_matches(':').parse::<i32>().ok()? * 60)
                };
                Self::at_offset(date.to_datetime(time), Offset::from_seconds(named.or_else(stated)?).ok()?)
            }
        }
    }

    /// Why a text that looks like a date is ambiguous, if it is: a time that the zone's clocks show twice or never, or
    /// two numbers that may both be the month.
    pub fn doubt(text: &str, timezone: &TimeZone) -> Option<&'static str> {
        let text = text.trim_ascii();
        let mut parts = text.split(['/', '.', ' ']).map(|part| part.parse::<u8>().ok());
        if let (Some(Some(1..=12)), Some(Some(1..=12))) = (parts.next(), parts.next())
            && !text.contains('-')
        {
            return Some("either number may be the month");
        }
        let pieces = Pieces::parse(text).ok().filter(|pieces| pieces.to_numeric_offset().is_none())?;
        let datetime = pieces.date().to_datetime(pieces.time()?);
        timezone.to_ambiguous_timestamp(datetime).is_ambiguous().then_some("the clocks were put forward or back then")
    }

    /// Reads a date in a `strptime` format such as `%d/%m/%Y`. A time without a zone is in `timezone`.
    pub fn read_as(format: &str, text: &str, timezone: &TimeZone) -> Option<Self> {
        let broken = jiff::fmt::strtime::parse(format, text.trim()).ok()?;
        let date = broken.to_date().ok()?;
        let Some(time) = broken.to_time().ok().filter(|_| broken.hour().is_some()) else {
            return Some(Self::Day(date)).filter(Self::in_range);
        };
        match broken.offset() {
            Some(offset) => Self::at_offset(date.to_datetime(time), offset),
            None => Self::in_zone(date.to_datetime(time), timezone),
        }
    }

    fn at_offset(datetime: DateTime, offset: Offset) -> Option<Self> {
        let seconds = offset.to_timestamp(datetime).ok()?.as_second();
        Some(Self::Instant { seconds, offset: i16::try_from(offset.seconds() / 60).ok()? }).filter(Self::in_range)
    }

    fn in_zone(datetime: DateTime, timezone: &TimeZone) -> Option<Self> {
        let zoned = timezone.to_ambiguous_zoned(datetime).compatible().ok()?;
        Self::at_offset(zoned.datetime(), zoned.offset())
    }

    fn in_range(&self) -> bool {
        match *self {
            Self::Day(date) => (0..=9999).contains(&date.year()),
            Self::Instant { seconds, offset } => IN_RANGE.contains(&(seconds + i64::from(offset) * 60)),
        }
    }

    /// The same date as clocks in a zone show it: an instant gets the zone's offset; a day stays a day.
    #[must_use]
    pub fn at(self, zone: &TimeZone) -> Self {
        let Self::Instant { seconds, .. } = self else { return self };
        let Ok(timestamp) = Timestamp::from_second(seconds) else { return self };
        let offset = zone.to_offset(timestamp).seconds() / 60;
        Some(Self::Instant { seconds, offset: offset as i16 }).filter(Self::in_range).unwrap_or(self)
    }

    /// The date in a `strftime` format such as `%Y/%m`, with an instant in the zone in which it was stated (see
    /// [`Lastmod::at`]). `None` if the format is invalid.
    pub fn format(&self, format: &str) -> Option<String> {
        let (date, time) = self.civil();
        jiff::fmt::strtime::format(format, date.to_datetime(time.map_or(Time::midnight(), |(time, _)| time))).ok()
    }

    /// An instant in UTC.
    pub fn from_timestamp(timestamp: Timestamp) -> Self {
        Self::Instant { seconds: timestamp.as_second(), offset: 0 }
    }

    /// The day with this number, counted from 1970-01-01.
    pub fn from_epoch_day(day: i32) -> Option<Self> {
        Date::new(1970, 1, 1).ok()?.checked_add(day.days()).ok().map(Self::Day)
    }

    /// The number of days from 1970-01-01 to this day, or to the day of this instant in its own zone.
    pub fn epoch_day(&self) -> i32 {
        let epoch = Date::constant(1970, 1, 1);
        epoch.until(self.civil().0).map_or(0, |span| span.get_days())
    }

    /// The year and month of this day, or of this instant in its own zone.
    pub fn month(&self) -> (i16, i8) {
        let day = self.civil().0;
        (day.year(), day.month())
    }

    /// Seconds since the Unix epoch, for ordering. A day counts as its midnight in UTC.
    pub fn seconds(&self) -> i64 {
        match self {
            Self::Day(_) => i64::from(self.epoch_day()) * 86_400,
            Self::Instant { seconds, .. } => *seconds,
        }
    }

    fn civil(&self) -> (Date, Option<(Time, i16)>) {
        match *self {
            Self::Day(date) => (date, None),
            Self::Instant { seconds, offset } => {
                let zone = Offset::from_seconds(i32::from(offset) * 60).unwrap_or(Offset::UTC);
                let datetime = zone.to_datetime(Timestamp::from_second(seconds).unwrap_or(Timestamp::UNIX_EPOCH));
                (datetime.date(), Some((datetime.time(), offset)))
            }
        }
    }

    /// A fixed-size form for compact rows, which [`Lastmod::from_bytes`] reads.
    pub fn to_bytes(&self) -> [u8; BYTES] {
        let (number, offset) = match *self {
            Self::Day(_) => (i64::from(self.epoch_day()), NO_OFFSET),
            Self::Instant { seconds, offset } => (seconds, offset),
        };
        let mut out = [0; BYTES];
        out[..8].copy_from_slice(&number.to_le_bytes());
        out[8..].copy_from_slice(&offset.to_le_bytes());
        out
    }

    /// The inverse of [`Lastmod::to_bytes`]; `None` for anything else.
    pub fn from_bytes(bytes: &[u8]) -> Option<Self> {
        let number = i64::from_le_bytes(bytes.get(..8)?.try_into().ok()?);
        let offset = i16::from_le_bytes(bytes.get(8..BYTES)?.try_into().ok()?);
        match offset {
            NO_OFFSET => Self::from_epoch_day(i32::try_from(number).ok()?),
            offset => Some(Self::Instant { seconds: number, offset }),
        }
    }
}

/// The longest text of a date.
const LONGEST: usize = 25;

impl Lastmod {
    /// Writes the date into `text` and returns its length.
    fn spell(&self, text: &mut [u8; LONGEST]) -> usize {
        let (date, time) = self.civil();
        let year = date.year().unsigned_abs();
        put(text, 0, year / 100);
        put(text, 2, year % 100);
        put(text, 5, date.month().unsigned_abs().into());
        put(text, 8, date.day().unsigned_abs().into());
        (text[4], text[7]) = (b'-', b'-');
        let Some((time, offset)) = time else { return 10 };
        put(text, 11, time.hour().unsigned_abs().into());
        put(text, 14, time.minute().unsigned_abs().into());
        put(text, 17, time.second().unsigned_abs().into());
        (text[10], text[13], text[16]) = (b'T', b':', b':');
        if offset == 0 {
            text[19] = b'Z';
            return 20;
        }
        text[19] = if offset < 0 { b'-' } else { b'+' };
        put(text, 20, offset.unsigned_abs() / 60);
        put(text, 23, offset.unsigned_abs() % 60);
        text[22] = b':';
        LONGEST
    }

    /// The length of the text.
    pub fn length(&self) -> usize {
        match self {
            Self::Day(_) => 10,
            Self::Instant { offset: 0, .. } => 20,
            Self::Instant { .. } => LONGEST,
        }
    }

    /// Appends the text to a file being written.
    pub(crate) fn push_to(&self, out: &mut Vec<u8>) {
        let mut text = [0; LONGEST];
        let end = self.spell(&mut text);
        out.extend_from_slice(&text[..end]);
    }
}

impl fmt::Display for Lastmod {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut text = [0; LONGEST];
        let end = self.spell(&mut text);
        formatter.write_str(std::str::from_utf8(&text[..end]).unwrap_or_default())
    }
}

/// Writes a number below 100 in two digits.
#[inline]
fn put(text: &mut [u8; LONGEST], at: usize, number: u16) {
    text[at] = b'0' + (number / 10) as u8;
    text[at + 1] = b'0' + (number % 10) as u8;
}

impl Serialize for Lastmod {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

/// Whether a text is in one of the two forms that the published sitemap schema accepts: `YYYY-MM-DD`, or a date and
/// time with seconds and a zone (sitemaps protocol 0.9, XML schema).
pub(crate) fn is_schema_form(text: &str) -> bool {
    let Ok(pieces) = Pieces::parse(text) else { return false };
    let extended_zone = text.ends_with('Z')
        || text
            .get(text.len().saturating_sub(6)..)
            .is_some_and(|zone| matches!(zone.as_bytes(), [b'+' | b'-', _, _, b':', _, _]));
    match pieces.time() {
        None => text.len() == 10,
        Some(_) => text.len() >= 20 && text.as_bytes()[10] == b'T' && text.as_bytes()[16] == b':' && extended_zone,
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("1795417649", "2026-11-23T07:07:29Z")]
    #[case("1795417649123", "2026-11-23T07:07:29Z")]
    #[case("Mon, 23 Nov 2026 07:07:29 GMT", "2026-11-23T07:07:29Z")]
    #[case("23 Nov 2026 07:07:29 +0100", "2026-11-23T07:07:29+01:00")]
    fn reads_what_programs_write(#[case] text: &str, #[case] wanted: &str) {
        assert_eq!(Lastmod::read(text, &TimeZone::UTC).map(|date| date.to_string()).as_deref(), Some(wanted));
    }

    #[rstest]
    #[case("25 Jun 2027 15:00:00 PST", Some("2027-06-25T15:00:00-08:00"))]
    #[case("25 Jun 27 15:00:00 GMT", Some("2027-06-25T15:00:00Z"))]
    #[case("Fri, 25 Jun 2027 15:00:00 +0200", Some("2027-06-25T15:00:00+02:00"))]
    #[case("Friday, 25-Jun-27 15:00:00 PST", Some("2027-06-25T15:00:00-08:00"))]
    #[case("Friday, 25-Jun-27 15:00:00 GMT, nofollow", Some("2027-06-25T15:00:00Z"))]
    #[case("Friday 25-Jun-2027 15:00:00", Some("2027-06-25T15:00:00+01:00"))]
    #[case("25-Jun-2027", Some("2027-06-25"))]
    #[case("25 June 2027", Some("2027-06-25"))]
    #[case("2027-06-25", Some("2027-06-25"))]
    #[case("2027-06-25, noarchive, nofollow", Some("2027-06-25"))]
    #[case("2027-06-25 15:00:00", Some("2027-06-25T15:00:00+01:00"))]
    #[case("2027-06-25T15:00:00+02:00,nofollow", Some("2027-06-25T15:00:00+02:00"))]
    #[case("31 Jun 2027", None)]
    #[case("when the snow melts", None)]
    #[case("", None)]
    fn deadlines_in_every_spelling(#[case] text: &str, #[case] wanted: Option<&str>) {
        let date = Lastmod::read_deadline(text, &TimeZone::get("Europe/London").unwrap());
        assert_eq!(date.map(|date| date.to_string()).as_deref(), wanted);
    }

    #[rstest]
    #[case("04/07/2026", true)]
    #[case("4.7.2026", true)]
    #[case("24/07/2026", false)]
    #[case("2026-10-25 01:30", true)]
    #[case("2026-03-29T01:30:00", true)]
    #[case("2026-10-25T01:30:00Z", false)]
    #[case("2026-10-25", false)]
    fn doubts(#[case] text: &str, #[case] wanted: bool) {
        assert_eq!(Lastmod::doubt(text, &TimeZone::get("Europe/London").unwrap()).is_some(), wanted);
    }

    #[rstest]
    #[case("2026-11-23", "2026-11-23")]
    #[case("2026-11-23T07:07:29Z", "2026-11-23T07:07:29Z")]
    #[case("2026-11-23T07:07:29.250+02:00", "2026-11-23T07:07:29+02:00")]
    #[case("2026-11-23T07:07+0200", "2026-11-23T07:07:00+02:00")]
    #[case("2026-11-23T07:07-03:30", "2026-11-23T07:07:00-03:30")]
    #[case("2026-07-01 10:00:00", "2026-07-01T10:00:00+01:00")]
    #[case("2026-12-01 10:00:00", "2026-12-01T10:00:00Z")]
    #[case("2026", "2026-01-01")]
    #[case("2026-02", "2026-02-01")]
    fn reads_and_writes(#[case] given: &str, #[case] wanted: &str) {
        let london = TimeZone::get("Europe/London").unwrap();
        assert_eq!(Lastmod::read(given, &london).unwrap().to_string(), wanted);
    }

    #[rstest]
    #[case("")]
    #[case("yesterday")]
    #[case("2026-13-01")]
    #[case("2026-02-30")]
    #[case("20/11/2026")]
    fn rejects_text_that_is_not_a_date(#[case] given: &str) {
        assert_eq!(Lastmod::read(given, &TimeZone::UTC), None);
    }

    #[rstest]
    #[case("%d/%m/%Y", "04/11/2026", "2026-11-04")]
    #[case("%d/%m/%Y %H:%M", "04/07/2026 18:05", "2026-07-04T18:05:00+01:00")]
    #[case("%Y%m%d", "20261104", "2026-11-04")]
    fn reads_a_stated_format(#[case] format: &str, #[case] given: &str, #[case] wanted: &str) {
        let london = TimeZone::get("Europe/London").unwrap();
        assert_eq!(Lastmod::read_as(format, given, &london).unwrap().to_string(), wanted);
        assert_eq!(Lastmod::read_as(format, "not a date", &london), None);
    }

    #[rstest]
    #[case("2026-11-23", true)]
    #[case("2026-11-23T07:07:29Z", true)]
    #[case("2026-11-23T07:07:29.5+01:00", true)]
    #[case("2026-11-23T07:07Z", false)]
    #[case("2026-11", false)]
    #[case("2026-11-23 07:07:29Z", false)]
    #[case("soon", false)]
    fn knows_the_forms_of_the_schema(#[case] text: &str, #[case] wanted: bool) {
        assert_eq!(is_schema_form(text), wanted);
    }

    proptest! {
        #[test]
        fn bytes_and_text_round_trip(seconds in -62_000_000_000i64..250_000_000_000, offset in -720i16..840) {
            let moment = Lastmod::Instant { seconds, offset };
            prop_assert_eq!(Lastmod::from_bytes(&moment.to_bytes()), Some(moment));
            let day = Lastmod::from_epoch_day(moment.epoch_day()).unwrap();
            prop_assert_eq!(Lastmod::from_bytes(&day.to_bytes()), Some(day));
            if moment.in_range() {
                prop_assert_eq!(Lastmod::read(&moment.to_string(), &TimeZone::UTC), Some(moment));
                prop_assert_eq!(Lastmod::read(&day.to_string(), &TimeZone::UTC), Some(day));
            }
        }
    }
}
