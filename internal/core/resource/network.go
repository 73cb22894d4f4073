package resource

// FirewallRule is the shape of one inbound rule.
var FirewallRule = object("firewall_rule",
	Property{Name: "from", About: "Source range that may connect.", Shape: kind(Range), Required: true},
	Property{Name: "port", About: "Destination port, 1 to 65535.", Shape: Shape{Kind: Integer, Minimum: 1, Maximum: 65535}, Required: true},
	Property{Name: "protocol", About: "tcp (default) or udp.", Shape: text("tcp", "udp")},
	Property{Name: "about", About: "Why the rule is there.", Shape: text()},
	Property{Name: "until", About: "Last day, such as 2027-01-31, after which it is a finding.", Shape: text()},
).by("from", "port", "protocol")

var balancerPort = object("balancer_port",
	Property{Name: "port", About: "Port that clients connect to.", Shape: Shape{Kind: Integer, Minimum: 1, Maximum: 65535}, Required: true},
	Property{Name: "to", About: "Port of the members; the same when left out.", Shape: Shape{Kind: Integer, Minimum: 1, Maximum: 65535}},
	Property{Name: "protocol", About: "tcp (default), http or tls.", Shape: text("tcp", "http", "tls")},
	Property{Name: "ready", About: "Path that a healthy member answers with 200, for http.", Shape: text()},
).by("port", "protocol")

var networkTypes = []Type{
	newType(TypeNetwork, "A private network of the account in one region.", 4, 600, knowledge{draws: []Draw{one("networks"), one("routers")}, unique: []Unique{{Property: "range", Overlap: true}}},
		[]Property{{Name: "range", About: "Address range of the network.", Shape: kind(Range), Required: true, Alter: Rebuild}}),
	newType(TypeSubnet, "A part of a network in one zone.", 3, 600, knowledge{draws: []Draw{one("subnets")}, unique: []Unique{{Property: "range", Within: "network", Overlap: true}}},
		[]Property{
			{Name: "network", About: "Id of the network.", Shape: text(), Required: true, Alter: Rebuild, Refers: TypeNetwork},
			{Name: "range", About: "Part of the network's range.", Shape: kind(Range), Required: true, Alter: Rebuild},
			{Name: "zone", About: "Zone of the subnet; the first of the region when left out.", Shape: text(), Alter: Rebuild, Picks: "zone"},
			{Name: "way_out", About: "How its machines reach the world: none, those with an address of their own, or all by a gateway (default).", Shape: text("none", "address", "gateway"), Alter: InPlace},
			{Name: "name_servers", About: "Addresses of the name servers that its machines ask; the cloud's own when left out.", Shape: listOf(kind(Address)), Alter: InPlace},
			{Name: "time_servers", About: "Names or addresses of the time servers that its machines follow; those of their image when left out.", Shape: listOf(text()), Alter: InPlace},
		},
		Attribute{Name: "router", About: "Address of the subnet's router.", Shape: kind(Address)}),
	newType(TypeFirewall, "Inbound rules; what no rule allows gets no connection.", 3, 600, knowledge{draws: []Draw{one("firewalls")}},
		[]Property{
			{Name: "network", About: "Id of the network.", Shape: text(), Required: true, Alter: Rebuild, Refers: TypeNetwork},
			{Name: "rules", About: "What may come in.", Shape: listOf(FirewallRule), Required: true, Alter: InPlace},
		}),
	newType(TypeAddress, "A fixed public address that outlives the instance using it.", 3, 600, knowledge{serves: true, draws: []Draw{one("addresses")}, prices: []Price{{List: "address", Amount: "hour", About: "fixed public address"}}},
		[]Property{
			{Name: "label", About: "Label for which the cloud gives a public name; nobody else in the region has it.", Shape: text(), Alter: Rebuild, Everybodys: true},
			{Name: "idle", About: "How long connections that say nothing stay; the cloud's own when left out.", Shape: kind(Span), Alter: InPlace},
		},
		Attribute{Name: "address", About: "The public address.", Shape: kind(Address)},
		Attribute{Name: "public_name", About: "The name that the cloud gives for its label; empty text without one.", Shape: text()}),
	newType(TypeBalancer, "Spreads connections over instances or a pool and leaves out unhealthy members.", 60, 1800, knowledge{serves: true, draws: []Draw{one("balancers")}},
		[]Property{
			{Name: "subnets", About: "Ids of the subnets it stands in, one for each zone.", Shape: listOf(text()), Required: true, Alter: Rebuild, Refers: TypeSubnet},
			{Name: "ports", About: "What it listens on and where that goes.", Shape: listOf(balancerPort), Required: true, Alter: InPlace},
			{Name: "members", About: "Ids of the instances behind it.", Shape: listOf(text()), Alter: InPlace, Refers: TypeInstance},
			{Name: "pool", About: "Id of the pool behind it, instead of members.", Shape: text(), Alter: InPlace, Refers: TypePool},
			{Name: "public", About: "Reachable from outside the network.", Shape: kind(Boolean), Alter: Rebuild},
			{Name: "firewalls", About: "Ids of the firewalls in front of it.", Shape: listOf(text()), Alter: InPlace, Refers: TypeFirewall},
		},
		Attribute{Name: "address", About: "Address that clients connect to.", Shape: kind(Address)},
		Attribute{Name: "healthy_members", About: "How many members are healthy.", Shape: kind(Integer)}),
	newType(TypeNameZone, "A zone of the domain name system.", 10, 900, knowledge{serves: true, unique: []Unique{{Property: "domain"}}},
		[]Property{
			{Name: "domain", About: "Domain of the zone, such as tides.example.", Shape: text(), Required: true, Alter: Rebuild, Everybodys: true},
			{Name: "network", About: "Id of the network that alone sees the zone; public when left out.", Shape: text(), Alter: Rebuild, Refers: TypeNetwork},
		},
		Attribute{Name: "servers", About: "Name servers that answer for the zone.", Shape: listOf(text())}),
	newType(TypeNameRecord, "One name of a zone with what it stands for.", 10, 900, knowledge{serves: true, unique: []Unique{{Property: "label", Within: "zone"}}, proves: []Proof{{Attribute: "servers", Resolves: true}}},
		[]Property{
			{Name: "zone", About: "Id of the name zone.", Shape: text(), Required: true, Alter: Rebuild, Refers: TypeNameZone},
			{Name: "label", About: "Name within the zone; @ is the zone itself.", Shape: text(), Required: true, Alter: Rebuild},
			{Name: "kind", About: "Kind of record (RFC 1035, RFC 3596).", Shape: text("A", "AAAA", "CNAME", "TXT", "MX"), Required: true, Alter: Rebuild},
			{Name: "values", About: "What the name stands for.", Shape: listOf(text()), Required: true, Alter: InPlace},
			{Name: "keep_for", About: "How long others may keep the answer; 5m when left out.", Shape: kind(Span), Alter: InPlace},
		},
		Attribute{Name: "full_name", About: "The whole name.", Shape: text()},
		Attribute{Name: "servers", About: "Name servers that answer for it; none inside a network.", Shape: listOf(text())}),
	newType(TypeLink, "A private connection from a network to the premises.", 1800, 14400, knowledge{serves: true, draws: []Draw{one("links")}, unique: []Unique{{Property: "circuit"}}},
		[]Property{
			{Name: "network", About: "Id of the network.", Shape: text(), Required: true, Alter: Rebuild, Refers: TypeNetwork},
			{Name: "circuit", About: "Id of the circuit that the provider gave.", Shape: text(), Required: true, Alter: Rebuild},
			{Name: "authorization", About: "Authorization key of the circuit.", Shape: text(), Required: true, Alter: InPlace},
			{Name: "premises", About: "Ranges that lie behind the link.", Shape: listOf(kind(Range)), Required: true, Alter: InPlace},
		},
		Attribute{Name: "status", About: "connecting, connected or down.", Shape: text()}),
}
