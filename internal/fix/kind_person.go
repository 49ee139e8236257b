package fix

// What is for a person is said, and never made from here.
var personRow = row{gathers: true, rank: always(100), title: named}
