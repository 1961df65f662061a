package wire

import "time"

// NoticesView is who is told of what, and what people were told.
type NoticesView struct {
	Server     string            `json:"server,omitempty" doc:"The mail server; none where the service was started without"`
	From       string            `json:"from,omitempty"`
	Recipients []NoticeRecipient `json:"recipients"`
	Webhook    string            `json:"webhook,omitempty"`
	Signed     bool              `json:"signed" doc:"What goes to the webhook is signed"`
	Digest     string            `json:"digest,omitempty" doc:"When the digest goes out, each day on which there is something to tell"`
	Items      []Notice          `json:"items" doc:"The latest 100, the newest first"`
}

// NoticeRecipient is somebody who is told.
type NoticeRecipient struct {
	To string   `json:"to"`
	Of []string `json:"of" doc:"failures: at once what breaks and when it is well again; digest: once a day all that is open; weekly-report and monthly-report"`
}

// Notice is something that people are told.
type Notice struct {
	ID         int64      `json:"id"`
	Key        string     `json:"key" doc:"Tells it from all others"`
	Kind       string     `json:"kind" enum:"broke,well,digest,test,report"`
	Channel    string     `json:"channel" enum:"mail,webhook"`
	Recipients []string   `json:"recipients"`
	Subject    string     `json:"subject"`
	Body       string     `json:"body" doc:"As plain text; of a webhook as JSON"`
	Created    time.Time  `json:"created"`
	Sent       *time.Time `json:"sent,omitempty" doc:"When it was taken"`
	Attempts   int        `json:"attempts"`
	Failure    string     `json:"failure,omitempty" doc:"Why it was not taken the last time; it is sent again"`
}
