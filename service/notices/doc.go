// Package notices tells people by mail, and programs by a signed webhook, when something
// breaks and when it is well again, and once a day all that is open. What is to be told is
// kept first, each once whichever service makes it, and sent then, again and again until the
// other side takes it. Never a flood: what breaks together is one notice, and there are few
// in an hour.
package notices
