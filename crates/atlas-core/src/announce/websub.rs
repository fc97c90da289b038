//! WebSub: the publisher tells the hub that a feed has changed. The feed names its hub and itself (W3C Recommendation
//! WebSub, section 4); how the hub is told is left open there, and this is the common form.

use super::request::{EngineRequest, form};

/// The request: `POST <hub>` with the address of the feed.
pub fn publish(hub: &str, feed: &str) -> EngineRequest {
    let body = form(&[("hub.mode", "publish"), ("hub.url", feed), ("hub.topic", feed)]);
    EngineRequest::post(hub, "application/x-www-form-urlencoded", body.into_bytes())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::announce::Method;

    #[test]
    fn the_message_to_the_hub() {
        let request = publish("https://hub.example/", "https://www.marrowvale.example/atlas-newest.xml");
        let wanted = "hub.mode=publish&hub.url=https%3A%2F%2Fwww.marrowvale.example%2Fatlas-newest.xml\
                      &hub.topic=https%3A%2F%2Fwww.marrowvale.example%2Fatlas-newest.xml";
        assert_eq!((request.method, request.url.as_str()), (Method::Post, "https://hub.example/"));
        assert_eq!(String::from_utf8(request.body).unwrap(), wanted);
        let header = ("content-type".to_owned(), "application/x-www-form-urlencoded".to_owned());
        assert_eq!(request.headers, [header]);
    }
}
