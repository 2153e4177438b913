package keycode

var EveryPlace = everyPlace
