package main

import "github.com/small-pantry/pantry"

// What the apps of the street share. Each is declared once, for all of them.
var (
	tankLitres = pantry.Int("tank/litres", 0).Between(0, 5000).About("in the rain tank")
	gateOpen   = pantry.Bool("gate/open", false).About("the gate to the lane")
	hoseQueue  = pantry.List[string]("hose/queue").Keep(20).About("beds that wait for the hose")
	hoseBed    = pantry.Text("hose/bed", "").About("the bed whose turn it is")
	notices    = pantry.List[string]("notices").Keep(3).About("what hangs at the gate")
)
