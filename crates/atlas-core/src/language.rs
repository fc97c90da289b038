//! Alternates and their language tags: an ISO 639-1 language, optionally with an ISO 15924 script and an ISO 3166-1
//! region.

use std::borrow::Cow;

use serde::{Deserialize, Serialize};
use thiserror::Error;

/// The same page in another language.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Alternate<'a> {
    /// A language tag, or `x-default`.
    #[serde(alias = "hreflang")]
    pub language: Cow<'a, str>,
    /// Its address.
    #[serde(alias = "href")]
    pub url: Cow<'a, str>,
}

/// The tag of the page for visitors whose language is not among the others.
pub(crate) const X_DEFAULT: &str = "x-default";

/// Two-letter languages, ISO 639-1.
const LANGUAGES: &str = "aa ab ae af ak am an ar as av ay az ba be bg bh bi bm bn bo br bs ca ce ch co cr cs cu cv cy da de \
dv dz ee el en eo es et eu fa ff fi fj fo fr fy ga gd gl gn gu gv ha he hi ho hr ht hu hy hz ia id ie ig ii ik io is it iu ja \
jv ka kg ki kj kk kl km kn ko kr ks ku kv kw ky la lb lg li ln lo lt lu lv mg mh mi mk ml mn mr ms mt my na nb nd ne ng nl nn \
no nr nv ny oc oj om or os pa pi pl ps pt qu rm rn ro ru rw sa sc sd se sg si sk sl sm sn so sq sr ss st su sv sw ta te tg th \
ti tk tl tn to tr ts tt tw ty ug uk ur uz ve vi vo wa wo xh yi yo za zh zu";

/// Two-letter countries and regions, ISO 3166-1 alpha-2.
const REGIONS: &str = "AD AE AF AG AI AL AM AO AQ AR AS AT AU AW AX AZ BA BB BD BE BF BG BH BI BJ BL BM BN BO BQ BR BS BT \
BV BW BY BZ CA CC CD CF CG CH CI CK CL CM CN CO CR CU CV CW CX CY CZ DE DJ DK DM DO DZ EC EE EG EH ER ES ET FI FJ FK FM FO FR \
GA GB GD GE GF GG GH GI GL GM GN GP GQ GR GS GT GU GW GY HK HM HN HR HT HU ID IE IL IM IN IO IQ IR IS IT JE JM JO JP KE KG KH \
KI KM KN KP KR KW KY KZ LA LB LC LI LK LR LS LT LU LV LY MA MC MD ME MF MG MH MK ML MM MN MO MP MQ MR MS MT MU MV MW MX MY MZ \
NA NC NE NF NG NI NL NO NP NR NU NZ OM PA PE PF PG PH PK PL PM PN PR PS PT PW PY QA RE RO RS RU RW SA SB SC SD SE SG SH SI SJ \
SK SL SM SN SO SR SS ST SV SX SY SZ TC TD TF TG TH TJ TK TL TM TN TO TR TT TV TW TZ UA UG UM US UY UZ VA VC VE VG VI VN VU WF \
WS YE YT ZA ZM ZW";

/// Why a text is not a language tag.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum TagError {
    /// It does not begin with a language.
    #[error("“{0}” does not begin with an ISO 639-1 language, such as en or cy")]
    Language(String),
    /// It gives UK as the region, which is not the country's code.
    #[error("“{0}”: the United Kingdom is GB")]
    UnitedKingdom(String),
    /// Its region is unknown.
    #[error("“{tag}”: “{region}” is not an ISO 3166-1 region")]
    Region {
        /// The whole tag.
        tag: String,
        /// The unknown part.
        region: String,
    },
    /// It has a part that is neither a script nor a region.
    #[error("“{tag}”: “{part}” is neither a script nor a region")]
    Part {
        /// The whole tag.
        tag: String,
        /// The part.
        part: String,
    },
}

/// The tag in its usual spelling.
///
/// # Errors
///
/// Returns a [`TagError`] if the text is not a language tag.
///
/// ```
/// use atlas_core::language::tag;
///
/// assert_eq!(tag("EN-gb").unwrap(), "en-GB");
/// assert_eq!(tag("x-default").unwrap(), "x-default");
/// assert!(tag("en-UK").unwrap_err().to_string().contains("GB"));
/// ```
pub fn tag(text: &str) -> Result<String, TagError> {
    let text = text.trim();
    if text.eq_ignore_ascii_case(X_DEFAULT) {
        return Ok(X_DEFAULT.to_owned());
    }
    let mut parts = text.split(['-', '_']);
    let language = parts.next().unwrap_or("").to_ascii_lowercase();
    if !is_among(LANGUAGES, &language) {
        return Err(TagError::Language(text.to_owned()));
    }
    let mut tag = language;
    let (mut script_seen, mut region_seen) = (false, false);
    for part in parts {
        let letters = part.bytes().all(|byte| byte.is_ascii_alphabetic());
        match part.len() {
            4 if letters && !script_seen && !region_seen => {
                script_seen = true;
                tag += "-";
                tag += &part[..1].to_ascii_uppercase();
                tag += &part[1..].to_ascii_lowercase();
            }
            2 if letters && !region_seen => {
                let region = part.to_ascii_uppercase();
                if region == "UK" {
                    return Err(TagError::UnitedKingdom(text.to_owned()));
                }
                if !is_among(REGIONS, &region) {
                    return Err(TagError::Region { tag: text.to_owned(), region: part.to_owned() });
                }
                region_seen = true;
                tag += "-";
                tag += &region;
            }
            _ => return Err(TagError::Part { tag: text.to_owned(), part: part.to_owned() }),
        }
    }
    Ok(tag)
}

/// Whether a text is a country or region of ISO 3166-1 alpha-2.
pub(crate) fn is_region(text: &str) -> bool {
    text.len() == 2 && is_among(REGIONS, text)
}

fn is_among(list: &str, word: &str) -> bool {
    list.split(' ').any(|one| one == word)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("en", Ok("en"))]
    #[case(" CY ", Ok("cy"))]
    #[case("zh-hant-tw", Ok("zh-Hant-TW"))]
    #[case("en_GB", Ok("en-GB"))]
    #[case("X-Default", Ok("x-default"))]
    #[case("en-UK", Err("GB"))]
    #[case("welsh", Err("ISO 639-1"))]
    #[case("", Err("ISO 639-1"))]
    #[case("en-GB-GB", Err("neither"))]
    #[case("en-XX", Err("ISO 3166-1"))]
    #[case("en-oxendict", Err("neither"))]
    fn tags(#[case] text: &str, #[case] wanted: Result<&str, &str>) {
        match (tag(text), wanted) {
            (Ok(found), Ok(wanted)) => assert_eq!(found, wanted),
            (Err(why), Err(wanted)) => assert!(why.to_string().contains(wanted), "{why}"),
            (found, wanted) => panic!("{found:?} instead of {wanted:?}"),
        }
    }
}
