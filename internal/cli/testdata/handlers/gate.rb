def scan(event, context)
  pass = event["data"]["pass"]
  raise ArgumentError, "bad pass" if pass == "bad"

  { id: event["id"], deck: context.attributes["deck"], pass: pass }
end

def leaves(_event)
  exit 4
end

module Gate
  def self.raw(data)
    data.to_s.b
  end
end
