package resource

var databaseUser = object("database_user",
	Property{Name: "name", About: "Name of the user.", Shape: text(), Required: true},
	Property{Name: "password", About: "Password; a secret.", Shape: text(), Required: true},
	Property{Name: "rights", About: "read, write (default) or own.", Shape: text("read", "write", "own")},
).by("name")

var storageTypes = []Type{
	newType("secret", "A secret value kept by the cloud for its guests.", 2, 300, knowledge{},
		[]Property{{Name: "value", About: "The secret text.", Shape: text(), Required: true, Alter: InPlace}},
		Attribute{Name: "version", About: "Counts up with each new value.", Shape: kind(Integer)}),
	newType("disk", "A block disk.", 12, 1200, knowledge{holdsData: true,
		draws:  []Draw{{Quota: "disk_gib", Of: Measure{Property: "size"}}, one("disks")},
		prices: []Price{{List: "disk_type", Of: "type", Amount: "gib_hour", Times: Measure{Property: "size"}}}},
		[]Property{
			{Name: "size", About: "Capacity. May only grow.", Shape: kind(Data), Required: true, Alter: InPlace, GrowOnly: true},
			{Name: "type", About: "Disk type the region offers.", Shape: text(), Required: true, Alter: Rebuild, Picks: "disk_type"},
			{Name: "zone", About: "Zone of the disk; the first of the region when left out.", Shape: preferred(), Alter: Rebuild, Picks: "zone"},
			{Name: "encrypted", About: "Encrypt at rest.", Shape: kind(Boolean), Alter: Rebuild},
		}),
	newType("bucket", "A store of objects by key.", 5, 600, knowledge{holdsData: true, draws: []Draw{one("buckets")}, unique: []Unique{{Property: "label"}}},
		[]Property{
			{Name: "label", About: "Name that must be unique in the whole cloud.", Shape: text(), Required: true, Alter: Rebuild, Everybodys: true},
			{Name: "files", About: "Objects that it begins with and keeps: texts by name, often read from files beside the template.", Shape: mapOf(text()), Alter: InPlace},
			{Name: "versions", About: "Keep earlier versions of objects.", Shape: kind(Boolean), Alter: InPlace},
			{Name: "keep_for", About: "How long objects are kept; for ever when left out.", Shape: kind(Span), Alter: InPlace},
			{Name: "encrypted", About: "Encrypt at rest.", Shape: kind(Boolean), Alter: InPlace},
		},
		Attribute{Name: "endpoint", About: "URL under which objects are reached.", Shape: text()},
		Attribute{Name: "objects", About: "What it holds: the SHA-256 of each object by its name.", Shape: mapOf(text())}),
	newType("database", "A managed relational database.", 480, 5400, knowledge{holdsData: true, draws: []Draw{one("databases")},
		prices: []Price{{List: "size", Of: "size", Amount: "hour", Times: Measure{Property: "subnets"}, About: "a machine in each of its zones"}, {List: "database", Amount: "gib_hour", Times: Measure{Property: "storage"}, About: "storage"}},
		proves: []Proof{{Attribute: "standby", Is: true, Of: "subnets", From: 2}}},
		[]Property{
			{Name: "engine", About: "Engine and major version that the cloud offers, such as postgresql-16.", Shape: text(), Required: true, Alter: Rebuild, Picks: "engine"},
			{Name: "size", About: "Machine size.", Shape: text(), Required: true, Alter: NeedsStop, Picks: "size"},
			{Name: "storage", About: "Storage. May only grow.", Shape: kind(Data), Required: true, Alter: InPlace, GrowOnly: true},
			{Name: "subnets", About: "Ids of the subnets, one for each zone; two or more make a standby.", Shape: listOf(text()), Required: true, Alter: Rebuild, Refers: "subnet"},
			{Name: "firewalls", About: "Ids of the firewalls in front of it.", Shape: listOf(text()), Alter: InPlace, Refers: "firewall"},
			{Name: "users", About: "Users with their rights.", Shape: listOf(databaseUser), Required: true, Alter: InPlace},
			{Name: "encrypted", About: "Encrypt at rest.", Shape: kind(Boolean), Alter: Rebuild},
			{Name: "keep_copies", About: "How long daily copies are kept.", Shape: kind(Span), Alter: InPlace},
		},
		Attribute{Name: "host", About: "Name or address that clients connect to.", Shape: text()},
		Attribute{Name: "database", About: "Name of the database in it.", Shape: text()},
		Attribute{Name: "port", About: "Port that clients connect to.", Shape: kind(Integer)},
		Attribute{Name: "standby", About: "Whether a standby in another zone is in step.", Shape: kind(Boolean)}),
}
