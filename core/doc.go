// Package core holds no code of its own: the packages below it are the heart
// of Time Gate, pure and without interface. They are told the time and given
// all values, and they touch nothing outside.
package core
