# quote: what does a crossing cost? A plain method: it gets the request, and what it returns is the reply.

BASE = { "skerry-holm" => 450, "holm-skerry" => 450, "brackwater-skerry" => 720, "skerry-brackwater" => 720 }.freeze
VEHICLE = { "foot" => 0, "bicycle" => 300, "car" => 2900, "van" => 4400 }.freeze

def quote(event, context)
  crossing = event["path"].delete_prefix("/quote/")
  return { status: 404, body: { error: "no such crossing" } } unless BASE.key?(crossing)

  ask = event["query"]
  cents = BASE[crossing] * Integer(ask.fetch("passengers", "1")) * 9 / 10 + VEHICLE[ask.fetch("vehicle", "foot")]
  puts "quoted #{crossing} on #{context.instance}"
  { status: 200, body: { crossing: crossing, cents: cents } }
end
