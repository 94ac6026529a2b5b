// Package words explains the words that screens, commands and docs use.
package words

// Word is a word with what it means.
type Word struct{ Name, Meaning string }

// All are the words, in the order of the alphabet.
var All = []Word{
	{"abandoned", "A delivery that was not reached because the run ended."},
	{"attempt", "One dispatch of a delivery to an instance. A delivery may have several."},
	{"batch", "Events of a queue or a stream that an instance gets in one invocation."},
	{"block", "What a stream dispatches at a time of one partition: a batch that comes back until it succeeds or " +
		"is given up."},
	{"boot", "The part of a start from the command's own code to ready."},
	{"budget", "A condition on a run's figures, such as function quote warm p95 < 100ms. A missed one makes the " +
		"exit code 1."},
	{"chain", "What one event led to: replies that were sent on, events that functions published, and theirs."},
	{"cold", "The class of an invocation for which an instance had to be started."},
	{"copied", "Messages of a broker that a source gets without taking them from anyone."},
	{"dead-lettered", "A delivery that used up its attempts and went to the dead-letter queue."},
	{"delivery", "One event that has to reach one function."},
	{"dispatched", "Handed to an instance."},
	{"done", "The outcome of a delivery whose function succeeded."},
	{"drill", "Load that is written down: which payloads arrive where and when, under which limits, and what must " +
		"hold."},
	{"due", "The moment at which an event should arrive. Latencies are counted from it, so that what waits is not " +
		"left out."},
	{"event", "What a source receives: a request, a message, a record, an upload, a point in time."},
	{"expired", "A delivery that waited longer than its source allows."},
	{"failed", "The outcome of a delivery whose function did not succeed."},
	{"firing", "One event that is sent by hand."},
	{"first", "The class of the first invocation of an instance that was started ahead: it did not wait for the " +
		"start."},
	{"front", "The address at which HTTP sources, functions and variants are reached from outside."},
	{"guaranteed", "Instances that are kept for a function within the project total."},
	{"idle", "An instance without an invocation. After idle_after it is stopped."},
	{"instance", "A process of a function, which takes invocations."},
	{"invocation", "One request to an instance."},
	{"lane", "The life of an instance as a row: its start, its invocations, its stop."},
	{"latency", "From due to done: waiting, a start if there was one, and the service time."},
	{"lease", "How long a queue waits for an invocation before it delivers the message again."},
	{"matched", "An event that a wire takes."},
	{"own time", "The part of the service time that is not spent in calls to upstreams."},
	{"parked", "A process that was started ahead and stopped in memory. It goes on where an instance is needed."},
	{"payload", "The content of an event, recorded or generated, one of a payload set."},
	{"project total", "How many instances or invocations all functions together may have."},
	{"received", "Came in at a source."},
	{"rejected", "Refused because no instance was free. A function's own status 429 is a status, not a rejection."},
	{"run", "A drill that was carried out, with all that was recorded."},
	{"service time", "From dispatch to the last byte of its reply."},
	{"settle", "How long a drill waits at its end for what is still under way."},
	{"source", "Where events come from: http, queue, stream, storage, schedule."},
	{"spawn", "The part of a start from the request for a process to the command's own code."},
	{"start", "From the request for a process to ready."},
	{"start burst", "How many instances a function may start at once."},
	{"start rate", "How many instances a function may start each second, once its burst is used up."},
	{"started ahead", "Brought up before an event needs it, by keep_warm or parked."},
	{"taken", "Messages of a broker that a source gets in place of its other consumers."},
	{"too few samples", "A figure that so few samples cannot tell; what it needs stands beside it."},
	{"unexpected", "A reply that is not what its payload expects."},
	{"unmatched", "An event that no wire takes."},
	{"upstream", "A service that functions call. It gets a stand-in, which records, replays or misbehaves."},
	{"variant", "The same function with other settings, to compare."},
	{"warm", "The class of an invocation of an instance that had one before."},
	{"wire", "What leads from a source to a function, with what it takes."},
}
