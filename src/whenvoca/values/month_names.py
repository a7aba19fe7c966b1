"""Month names of the neighbours' languages, where one name never means two months.

Portuguese, Spanish, French, German, Italian, Dutch, Danish, Swedish and Polish, whole and shortened, as the Unicode
CLDR has them. They stand here because reading them from babel takes longer than reading a sheet; a test holds them
against it.
"""

from __future__ import annotations

_NAMES = (
    "ene enero gen gennaio jan janeiro januar januari janv janvier sty styczeń stycznia",
    "feb febbraio febrero februar februari fev fevereiro févr février lut lutego luty",
    "maart mar marca mars marts marzec marzo março mrt mär märz",
    "abr abril apr april aprile avr avril kwi kwiecień kwietnia",
    "mag maggio mai maio maj maja may mayo mei",
    "cze czerwca czerwiec giu giugno juin jun junho juni junio",
    "juil juillet jul julho juli julio lip lipca lipiec lug luglio",
    "ago agosto août aug august augusti augustus sie sierpień sierpnia",
    "sep sept september septembre septiembre set setembro settembre wrz wrzesień września",
    "oct octobre octubre okt oktober ott ottobre out outubro paź październik października",
    "lis listopad listopada nov november novembre novembro noviembre",
    "dec december dez dezember dezembro dic dicembre diciembre déc décembre gru grudnia grudzień",
)
FOREIGN_MONTHS = {name: number for number, names in enumerate(_NAMES, 1) for name in names.split()}
