package judge

import "testing"

// TestLeaks has for each pattern a true example and a near miss: a sentence
// that a sound answer could hold.
func TestLeaks(t *testing.T) {
	pairs := map[string][2]string{
		"a Java stack trace":          {"at com.harbour.desk.Berths.book(Berths.java:42)", "Look at harbour.berths.book (see the table on page 42)"},
		"a Java class name":           {"java.time.format.DateTimeParseException: Text 'x' could not be parsed", "the exception is java.time, which the office keeps"},
		"a Java type name":            {"Cannot deserialize value of type `java.lang.Integer`", "Cannot read a value of type `integer`"},
		"a Python stack trace":        {"Traceback (most recent call last):\n", "The traceback of the cargo is missing"},
		"a Python source line":        {`File "/srv/harbour/desk.py", line 12, in book`, `File "manifest.csv", line 12, is empty`},
		"a Node.js stack trace":       {"TypeError: x\n    at book (/srv/harbour/desk.js:12:9)", "Moor\n    at berth C (12:09)"},
		"a path of a Node.js package": {"/srv/harbour/node_modules/body-parser/lib", "the folder node_modules is not ours"},
		"a .NET stack trace":          {"   at Harbour.Desk.Book(Vessel v) in /src/Desk.cs:line 12", "   at the quay (north) in line 12"},
		"a .NET class name":           {"System.FormatException: Input string was not in a correct format", "System.alarm is off"},
		"a .NET type name":            {"The JSON value could not be converted to System.Int32", "The value could not be converted to an integer"},
		"a Go stack trace":            {"goroutine 41 [running]:", "goroutine is a word"},
		"a Go run-time error":         {"runtime error: index out of range [3] with length 3", "runtime error: please call the office"},
		"a Go decoder's words":        {"json: cannot unmarshal string into Go struct field Vessel.length_m of type float64", "JSON: cannot read the text"},
		"a Ruby stack trace":          {"app/models/vessel.rb:12:in `book'", "see vessel.rb: it is the red book"},
		"a PHP error":                 {"Fatal error: Uncaught TypeError in /var/www/desk.php on line 12", "Warning: two vessels on line 12"},
		"a PHP stack trace":           {"#0 /app/desk.php(12): book()", "#0 of the desk (12): booked"},
		"a Rust panic":                {"thread 'main' panicked at src/desk.rs:12:9", "the crew panicked at sea"},
		"an SQL statement":            {"select v.name, v.flag from vessel v where v.id = 1", "please select a berth from the list where there is room"},
		"a PostgreSQL message":        {`duplicate key value violates unique constraint "vessel_imo_key"`, "the order violates the harbour's rules"},
		"an SQLSTATE":                 {"SQLSTATE[23000]: Integrity constraint violation", "the state of SQL is unknown"},
		"a MySQL message":             {"You have an error in your SQL syntax; check the manual", "You have an error in your request"},
		"a database's message":        {"UNIQUE constraint failed: vessel.imo", "the constraint failed at /imo"},
		"an Oracle message":           {"ORA-00001: unique constraint violated", "AURORA-12 is at berth C"},
		"a MongoDB message":           {"E11000 duplicate key error collection: harbour.vessels", "booking E11000 is a duplicate"},
		"a framework's error page":    {"<h1>Whitelabel Error Page</h1>", "a white label on the page"},
		"a framework's debug page":    {"because you have DEBUG = True in your settings", "debug is true"},
		"a debugger's page":           {"<title>TypeError // Werkzeug Debugger</title>", "ask for the Werkzeug at the quay"},
		"a path of the server":        {"cannot open /srv/harbour/app/desk.py", "see /var/lib or https://harbour.example/opt/desk.py"},
	}
	for _, l := range leaks {
		pair, ok := pairs[l.what]
		if !ok {
			t.Errorf("%s has no example", l.what)
			continue
		}
		if len(l.find([]byte(pair[0]))) == 0 {
			t.Errorf("%s is not found in %q", l.what, pair[0])
		}
		if what, _ := leaked([]byte(pair[0])); what == "" {
			t.Errorf("nothing is found in %q", pair[0])
		}
		if what, passage := leaked([]byte(pair[1])); what != "" {
			t.Errorf("%q is taken for %s in %q", passage, what, pair[1])
		}
	}
}
