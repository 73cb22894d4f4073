package resource

var roleGrant = object("role_grant",
	Property{Name: "may", About: "What is allowed, such as disk.read or instance.*.", Shape: listOf(text()), Required: true},
	Property{Name: "on", About: "Ids of the resources; everything in the account when left out.", Shape: listOf(text())},
)

var hostLayout = object("host_layout",
	Property{Name: "zone", About: "Zone of the hosts.", Shape: text(), Required: true, Picks: "zone"},
	Property{Name: "hosts", About: "How many hosts.", Shape: Shape{Kind: Integer, Minimum: 1, Maximum: 64}, Required: true},
	Property{Name: "witness", About: "Only keeps the quorum, carries no load.", Shape: kind(Boolean)},
)

var platformTypes = []Type{
	newType("role", "Rights that machines and services act with.", 5, 600, knowledge{},
		[]Property{{Name: "grants", About: "What the role may do.", Shape: listOf(roleGrant), Required: true, Alter: InPlace}}),
	newType("domain", "A directory of users and machines.", 4800, 14400, knowledge{draws: []Draw{one("domains")}},
		[]Property{
			{Name: "domain", About: "Domain name of the directory.", Shape: text(), Required: true, Alter: Rebuild},
			{Name: "subnets", About: "Ids of the two subnets that its servers stand in.", Shape: listOf(text()), Required: true, Alter: Rebuild, Refers: "subnet"},
			{Name: "password", About: "Password of its administrator; a secret.", Shape: text(), Required: true, Alter: InPlace},
		},
		Attribute{Name: "servers", About: "Addresses of its name servers.", Shape: listOf(kind(Address))}),
	newType("cluster", "A managed container cluster: its control plane.", 540, 5400, knowledge{draws: []Draw{one("clusters")}},
		[]Property{
			{Name: "version", About: "Version of the orchestrator that the cloud offers.", Shape: text(), Required: true, Alter: InPlace},
			{Name: "subnets", About: "Ids of the subnets of the control plane.", Shape: listOf(text()), Required: true, Alter: Rebuild, Refers: "subnet"},
			{Name: "public", About: "Reachable from outside the network.", Shape: kind(Boolean), Alter: InPlace},
			{Name: "admins", About: "Ranges that may reach it.", Shape: listOf(kind(Range)), Alter: InPlace},
			{Name: "role", About: "Id of the role it acts with.", Shape: text(), Alter: Rebuild, Refers: "role"},
		},
		Attribute{Name: "endpoint", About: "URL of its interface.", Shape: text()},
		Attribute{Name: "credentials", About: "Access file for clients.", Shape: text(), Secret: true}),
	newType("workers", "Machines that carry the containers of a cluster.", 180, 3600, knowledge{draws: []Draw{{Quota: "vcpus", Of: Measure{Property: "size", Amount: "vcpus", Times: "most"}}}},
		[]Property{
			{Name: "cluster", About: "Id of the cluster.", Shape: text(), Required: true, Alter: Rebuild, Refers: "cluster"},
			{Name: "size", About: "Machine size.", Shape: text(), Required: true, Alter: Rebuild, Picks: "size"},
			{Name: "subnets", About: "Ids of the subnets.", Shape: listOf(text()), Required: true, Alter: Rebuild, Refers: "subnet"},
			{Name: "least", About: "Fewest machines.", Shape: Shape{Kind: Integer, Maximum: 1000}, Required: true, Alter: InPlace},
			{Name: "most", About: "Most machines.", Shape: Shape{Kind: Integer, Minimum: 1, Maximum: 1000}, Required: true, Alter: InPlace},
			{Name: "disk", About: "Disk of each machine.", Shape: kind(Data), Alter: Rebuild},
		},
		Attribute{Name: "ready", About: "How many machines are ready.", Shape: kind(Integer)}),
	newType("software", "A package on a container cluster with its settings.", 120, 3600, knowledge{},
		[]Property{
			{Name: "cluster", About: "Id of the cluster.", Shape: text(), Required: true, Alter: Rebuild, Refers: "cluster"},
			{Name: "package", About: "Name of the package.", Shape: text(), Required: true, Alter: Rebuild},
			{Name: "version", About: "Version of the package.", Shape: text(), Required: true, Alter: InPlace},
			{Name: "space", About: "Namespace that it lives in.", Shape: text(), Alter: Rebuild},
			{Name: "settings", About: "Settings as one mapping, often read from a file beside the template.", Shape: kind(Open), Alter: InPlace},
			{Name: "overrides", About: "Settings by path, over the others.", Shape: mapOf(kind(Open)), Alter: InPlace},
			{Name: "secrets", About: "Secret settings by path; never shown.", Shape: mapOf(text()), Alter: InPlace},
		},
		Attribute{Name: "address", About: "Address at which it is exposed; empty when it is not.", Shape: text()}),
	newType("private_cloud", "A dedicated cloud of hosts with its own management.", 10800, 28800, knowledge{draws: []Draw{one("hosts")}},
		[]Property{
			{Name: "ranges", About: "Ranges by purpose: management, moves, storage, uplink.", Shape: mapOf(kind(Range)), Required: true, Alter: Rebuild},
			{Name: "layout", About: "Hosts by zone.", Shape: listOf(hostLayout), Required: true, Alter: InPlace},
			{Name: "family", About: "Family of hosts.", Shape: text(), Required: true, Alter: Rebuild},
			{Name: "password", About: "Password of its administrator; a secret.", Shape: text(), Required: true, Alter: InPlace},
		},
		Attribute{Name: "console", About: "URL of its management.", Shape: text()},
		Attribute{Name: "hosts", About: "How many hosts are healthy.", Shape: kind(Integer)}),
	newType("notice", "A message sent once what it comes after is healthy.", 2, 300, knowledge{},
		[]Property{
			{Name: "to", About: "Address of the receiver: an https URL, or mailto:.", Shape: text(), Required: true, Alter: InPlace},
			{Name: "subject", About: "First line of the message.", Shape: text(), Required: true, Alter: Rebuild},
			{Name: "text", About: "The message.", Shape: text(), Alter: Rebuild},
		},
		Attribute{Name: "sent", About: "When it was sent (RFC 3339).", Shape: text()}),
}
