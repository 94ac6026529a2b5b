package broken

var Fares int = "twelve"

func F(data any) {}
