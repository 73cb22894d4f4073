package render

// What tests outside of the package use of those inside.
var (
	Gauge    = gauge
	Offers   = offers
	Template = template
)
