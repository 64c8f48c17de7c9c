package answer

// The ids of answers that every app may have a use for. They stand here alone: in answers files, in tables, in kits and
// in JSON they are written so. Kits have questions of their own besides.
const (
	Occupied = "occupied" // what is to happen to what is in the way
	Licence  = "licence"
	Title    = "title"
	Subtitle = "subtitle"
	Language = "language"

	AdminName      = "admin.name"
	AdminEmail     = "admin.email"
	AdminPassword  = "admin.password"
	AdminFirstName = "admin.first-name"
	AdminLastName  = "admin.last-name"
	AdminFolder    = "admin.folder"

	DataFrom     = "data.from" // a new database, one that is there, or one that was made by hand
	DataServer   = "data.server"
	DataName     = "data.name"
	DataUser     = "data.user"
	DataPassword = "data.password"
	DataTables   = "data.tables"
)
