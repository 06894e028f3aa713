//! Where in Redis what stands: every key is made here.

/// The keys of one app.
#[derive(Clone, Debug)]
pub(super) struct Keys {
    prefix: String,
}

impl Keys {
    pub(super) fn new(prefix: &str) -> Self {
        Self { prefix: prefix.to_owned() }
    }

    fn key(&self, name: &str) -> String {
        format!("{}{name}", self.prefix)
    }

    /// What does not change about a session.
    pub(super) fn session(&self, id: &str) -> String {
        format!("{}session:{id}", self.prefix)
    }

    /// Its generations and its end.
    pub(super) fn line(&self, id: &str) -> String {
        format!("{}line:{id}", self.prefix)
    }

    /// The sessions of a subject, by their start.
    pub(super) fn subject(&self, subject: &str) -> String {
        format!("{}subject:{subject}", self.prefix)
    }

    /// All sessions, by until when they can be renewed.
    pub(super) fn idle(&self) -> String {
        self.key("idle")
    }

    /// All sessions, by their ids.
    pub(super) fn ids(&self) -> String {
        self.key("ids")
    }

    /// The marks, by their moment.
    pub(super) fn marks(&self) -> String {
        self.key("marks")
    }

    pub(super) fn feed(&self) -> String {
        self.key("feed")
    }

    /// The entries of the feed, by until when they have to be remembered.
    fn feed_until(&self) -> String {
        self.key("feed:until")
    }

    pub(super) fn schema(&self) -> String {
        self.key("schema")
    }

    /// An index of an earlier form.
    pub(super) fn started(&self) -> String {
        self.key("started")
    }

    /// As every script is given them.
    pub(super) fn of_scripts(&self) -> [String; 8] {
        let names = [self.session(""), self.line(""), self.subject("")];
        let [sessions, lines, subjects] = names;
        [sessions, lines, subjects, self.idle(), self.ids(), self.marks(), self.feed(), self.feed_until()]
    }
}
