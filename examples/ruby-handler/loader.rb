# A loader for handlers in Ruby, as an example of docs/loaders.md: ruby loader.rb FILE NAME SOCKET SLOTS TAKES.
# It connects SLOTS times, loads FILE, and answers on each connection, one invocation after another.
BEGAN = Process.clock_gettime(Process::CLOCK_MONOTONIC, :nanosecond)

require "json"
require "socket"
require "uri"

$stdout.sync = true

Context = Struct.new(:id, :attempt, :last_attempt, :deadline, :instance, :traceparent, :attributes, :until) do
  def left_ms
    [(self.until - Process.clock_gettime(Process::CLOCK_MONOTONIC)) * 1000, 0].max
  end
end

def now
  Process.clock_gettime(Process::CLOCK_MONOTONIC, :nanosecond)
end

def send_frame(conn, number, head, body = "".b)
  text = JSON.generate(head).b
  conn.write([number, text.bytesize, body.bytesize].pack("NNN") + text + body)
end

# The user's frames of an error, and its place in the user's code.
def report(kind, error)
  trace = (error.backtrace || []).reject { |line| line.start_with?(File.expand_path(__FILE__), __FILE__) }.first(40)
  file, line = error.is_a?(SyntaxError) ? error.message.split(":") : trace.first.to_s.split(":")
  { kind: kind, type: error.class.name, message: error.message, file: file ? File.expand_path(file) : "",
    line: line.to_i, trace: trace }
end

def refuse(conn, error)
  warn error[:message], *error[:trace]
  send_frame(conn, 0, { error: error })
  exit! 3
end

# Data as a value: JSON is read, other data stays as it is.
def value(kind, data)
  kind = kind.to_s.split(";").first.to_s.strip.downcase
  return data unless kind.empty? || kind == "application/json" || kind.end_with?("+json")

  data.empty? ? nil : JSON.parse(data)
rescue JSON::ParserError
  data
end

def argument(head, body)
  takes = head["takes"]
  return value("", body) if takes == "shaped"

  if (request = head["request"])
    headers = request["headers"].each_with_object({}) do |(name, text), all|
      all[name.downcase] = [all[name.downcase], text].compact.join(", ")
    end
    content = body.empty? ? nil : value(headers["content-type"], body)
    return content if takes == "data"

    path, query = request["target"].split("?", 2)
    return { "method" => request["method"], "path" => path, "query" => URI.decode_www_form(query.to_s).to_h,
             "headers" => headers, "body" => content }
  end
  at = 0
  events = head["events"].map do |event|
    data = value(event["attributes"]["datacontenttype"], body.byteslice(at, event["size"]))
    at += event["size"]
    takes == "data" ? data : event["attributes"].merge("data" => data)
  end
  head["batch"] ? events : events.first
end

def answered(value)
  return [{ kind: "nothing" }, "".b] if value.nil?
  return [{ kind: "bytes" }, value] if value.is_a?(String) && value.encoding == Encoding::BINARY

  [{ kind: "json" }, JSON.generate(value).b]
end

def serve(conn, handler)
  while (lengths = conn.read(12))
    number, head, body = lengths.unpack("NNN")
    head = JSON.parse(conn.read(head))
    body = conn.read(body)
    context = Context.new(*head.values_at("id", "attempt", "last_attempt", "deadline", "instance", "traceparent"),
                          head.dig("events", 0, "attributes") || {},
                          Process.clock_gettime(Process::CLOCK_MONOTONIC) + head["left_ms"] / 1000.0)
    began = now
    user = nil
    begin
      given = [argument(head, body), context].first(handler.arity.negative? ? 2 : handler.arity)
      began = now
      returned = handler.call(*given)
      user = now - began
      reply, content = answered(returned)
    rescue SystemExit => e
      send_frame(conn, number, { kind: "error", user_ns: now - began,
                                 error: report("exit", e).merge(message: "it called exit(#{e.status})") })
      exit! e.status
    rescue Exception => e # rubocop:disable Lint/RescueException
      reply, content = { kind: "error", error: report(user ? "not-json" : "raised", e) }, "".b
      warn "#{e.class}: #{e.message}", *reply[:error][:trace]
    end
    send_frame(conn, number, reply.merge(user_ns: user || now - began), content)
  end
end

file, name, socket, slots, = ARGV
connections = Array.new(slots.to_i) { UNIXSocket.new(socket) }
loading = now
refuse(connections[0], { kind: "no-file", message: "no file #{file}", trace: [] }) unless File.file?(file)
begin
  load File.expand_path(file)
rescue SystemExit => e
  refuse(connections[0], report("exit", e).merge(message: "it exits with #{e.status} while it is loaded"))
rescue Exception => e # rubocop:disable Lint/RescueException
  refuse(connections[0], report("import", e))
end
owner, _, method = name.rpartition(".")
owner = owner.empty? ? self : Object.const_get(owner)
unless owner.respond_to?(method, true)
  refuse(connections[0], { kind: "no-name", message: "#{file} has no #{name}", trace: [] })
end
handler = owner.method(method)
if handler.parameters.count { |kind, _| %i[req keyreq].include?(kind) } > 2
  refuse(connections[0], { kind: "arity", message: "#{name} needs more than an event and a context", trace: [],
                           file: handler.source_location[0], line: handler.source_location[1] })
end
loaded = now
connections.each_with_index do |conn, slot|
  send_frame(conn, 0, { slot: slot, loader_ns: loading - BEGAN, load_ns: loaded - loading })
end
connections.map { |conn| Thread.new { serve(conn, handler) } }.each(&:join)
exit! 0
