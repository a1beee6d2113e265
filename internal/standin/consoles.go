package standin

import (
	"time"

	"polytome/internal/standin/ftpd"
)

// Consoles are the habits of the servers of simulated consoles, by the console's name; see docs/consoles.
var Consoles = map[string]ftpd.Habits{
	"corvane":  {User: "gantry", Password: "ferryline", OneTransfer: true, Idle: time.Minute, SlowClose: 5 * time.Millisecond},
	"meridian": {Machine: true, Restart: true, Sizes: true, Extended: true, Year: true},
}
