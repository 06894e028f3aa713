//! What the guard sees of a request, whatever the framework keeps it in.

use http::request::Parts;
use http::{Extensions, HeaderMap, HeaderName, Method, Request, Uri, Version};

/// A request as the guard sees it: its method, its path and its headers. It is there for the types of `http`; for those of
/// another framework it is a few lines.
///
/// ```
/// use http::{HeaderName, Request, request::Parts};
/// use vorsel::RequestHead;
///
/// struct Wrapped(Request<()>);
///
/// impl RequestHead for Wrapped {
///     fn method(&self) -> &str {
///         self.0.method().as_str()
///     }
///     fn path(&self) -> &str {
///         self.0.uri().path()
///     }
///     fn header<'r>(&'r self, name: &HeaderName, each: &mut dyn FnMut(&'r [u8])) {
///         self.0.headers().get_all(name).iter().for_each(|value| each(value.as_bytes()));
///     }
///     fn to_parts(&self) -> Parts {
///         self.0.clone().into_parts().0
///     }
/// }
/// ```
#[diagnostic::on_unimplemented(
    message = "the guard cannot look at `{Self}`",
    note = "hand it an http::Request or its parts, or implement RequestHead for the request of your framework"
)]
pub trait RequestHead {
    /// The method, in capitals as HTTP has it.
    fn method(&self) -> &str;

    /// The path as the client sent it, percent-encoded, without the query.
    fn path(&self) -> &str;

    /// The query as the client sent it; the guard reads nothing from it but whether a token was put there by mistake.
    fn query(&self) -> Option<&str> {
        None
    }

    /// Gives each value of the header of this name to `each`, in the order received.
    fn header<'r>(&'r self, name: &HeaderName, each: &mut dyn FnMut(&'r [u8]));

    /// The same request in the types of `http`, for the app's own predicates. This is asked only where a rule hangs on a
    /// predicate, or an API key has to be looked up.
    fn to_parts(&self) -> Parts;
}

/// The one value of a header.
pub(super) fn only<'r>(request: &'r dyn RequestHead, name: &HeaderName) -> Result<Option<&'r [u8]>, Twice> {
    let (mut found, mut count) = (None, 0);
    request.header(name, &mut |value| {
        found = Some(value);
        count += 1;
    });
    if count > 1 { Err(Twice) } else { Ok(found) }
}

/// What a client sent, as a log shows it: in quotes, escaped, and no more than 80 characters.
pub(super) fn shown(text: &str) -> String {
    const LONGEST: usize = 80;
    match text.char_indices().nth(LONGEST) {
        None => format!("{text:?}"),
        Some((end, _)) => format!("{:?}… ({} bytes)", &text[..end], text.len()),
    }
}

/// A header that should be there once and is there twice.
pub(super) struct Twice;

pub(super) fn has(request: &dyn RequestHead, name: &HeaderName) -> bool {
    let mut is_there = false;
    request.header(name, &mut |_| is_there = true);
    is_there
}

fn each_value<'r>(headers: &'r HeaderMap, name: &HeaderName, each: &mut dyn FnMut(&'r [u8])) {
    // Where no header is there twice, there is nothing to walk along.
    if headers.len() == headers.keys_len() {
        headers.get(name).into_iter().for_each(|value| each(value.as_bytes()));
    } else {
        headers.get_all(name).iter().for_each(|value| each(value.as_bytes()));
    }
}

/// Inside a nested axum router the request's own URI has lost its beginning.
#[inline]
fn whole_path<'r>(uri: &'r Uri, extensions: &'r Extensions) -> &'r str {
    #[cfg(feature = "axum")]
    if !extensions.is_empty()
        && let Some(original) = original_path(extensions)
    {
        return original;
    }
    let _ = extensions;
    uri.path()
}

/// Kept apart, since a request that comes right from the server has no extensions.
#[cfg(feature = "axum")]
#[cold]
fn original_path(extensions: &Extensions) -> Option<&str> {
    extensions.get::<axum::extract::OriginalUri>().map(|original| original.path())
}

/// A request on its way through a guard, whatever its body is.
pub(super) trait Passing: RequestHead {
    fn is_options(&self) -> bool;
    fn version(&self) -> Version;
    fn headers(&self) -> &HeaderMap;
    fn extensions(&mut self) -> &mut Extensions;
}

impl<B> Passing for Request<B> {
    #[inline]
    fn is_options(&self) -> bool {
        self.method() == Method::OPTIONS
    }

    fn version(&self) -> Version {
        self.version()
    }

    #[inline]
    fn headers(&self) -> &HeaderMap {
        self.headers()
    }

    #[inline]
    fn extensions(&mut self) -> &mut Extensions {
        self.extensions_mut()
    }
}

impl RequestHead for Parts {
    fn method(&self) -> &str {
        self.method.as_str()
    }

    fn path(&self) -> &str {
        whole_path(&self.uri, &self.extensions)
    }

    fn query(&self) -> Option<&str> {
        self.uri.query()
    }

    fn header<'r>(&'r self, name: &HeaderName, each: &mut dyn FnMut(&'r [u8])) {
        each_value(&self.headers, name, each);
    }

    fn to_parts(&self) -> Parts {
        self.clone()
    }
}

impl<B> RequestHead for Request<B> {
    fn method(&self) -> &str {
        self.method().as_str()
    }

    #[inline]
    fn path(&self) -> &str {
        whole_path(self.uri(), self.extensions())
    }

    fn query(&self) -> Option<&str> {
        self.uri().query()
    }

    fn header<'r>(&'r self, name: &HeaderName, each: &mut dyn FnMut(&'r [u8])) {
        each_value(self.headers(), name, each);
    }

    fn to_parts(&self) -> Parts {
        let (mut parts, ()) = Request::new(()).into_parts();
        parts.method = self.method().clone();
        parts.uri = self.uri().clone();
        parts.version = self.version();
        parts.headers = self.headers().clone();
        parts.extensions = self.extensions().clone();
        parts
    }
}
