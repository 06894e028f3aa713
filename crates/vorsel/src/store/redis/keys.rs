//! Where in Redis what stands: every key is made here.

/// The keys of one app.
#[derive(Clone, Debug)]
pub(super) struct Keys {
    prefix: String,
    /// All sessions that were not ended one by one, by until when they can be renewed.
    pub(super) idle: String,
    /// The others, likewise.
    ended: String,
    /// All sessions, by their ids.
    pub(super) ids: String,
    /// The marks, by their moment.
    pub(super) marks: String,
    /// The moment of the newest mark.
    pub(super) newest_mark: String,
    pub(super) feed: String,
    /// The entries of the feed, by until when they have to be remembered.
    feed_until: String,
    pub(super) schema: String,
    /// An index of an earlier form.
    pub(super) started: String,
}

impl Keys {
    pub(super) fn new(prefix: &str) -> Self {
        let key = |name: &str| format!("{prefix}{name}");
        Self {
            prefix: prefix.to_owned(),
            idle: key("idle"),
            ended: key("ended"),
            ids: key("ids"),
            marks: key("marks"),
            newest_mark: key("marks:newest"),
            feed: key("feed"),
            feed_until: key("feed:until"),
            schema: key("schema"),
            started: key("started"),
        }
    }

    /// What does not change about a session.
    pub(super) fn session(&self, id: &str) -> String {
        [&self.prefix, "session:", id].concat()
    }

    /// Its generations and its end.
    pub(super) fn line(&self, id: &str) -> String {
        [&self.prefix, "line:", id].concat()
    }

    /// The sessions of a subject, by their start.
    pub(super) fn subject(&self, subject: &str) -> String {
        [&self.prefix, "subject:", subject].concat()
    }

    /// What is kept beside the sessions.
    pub(super) fn kept(&self, name: &str) -> String {
        [&self.prefix, "kept:", name].concat()
    }

    /// An id that is taken.
    pub(super) fn taken(&self, id: &str) -> String {
        [&self.prefix, "taken:", id].concat()
    }

    /// As every script is given them.
    pub(super) fn of_scripts(&self) -> [String; 10] {
        let [idle, ids, marks] = [&self.idle, &self.ids, &self.marks].map(Clone::clone);
        let (newest, feed, until) = (self.newest_mark.clone(), self.feed.clone(), self.feed_until.clone());
        let ended = self.ended.clone();
        [self.session(""), self.line(""), self.subject(""), idle, ids, marks, newest, feed, until, ended]
    }
}
