"""Each row of the rules for breaks has an example, which that row decides."""

from collections.abc import Container

import pytest

from mantisreed.subtitles.language.auxiliary_rules import AFTER_AUXILIARIES
from mantisreed.subtitles.language.between_rules import (
    BEFORE_CONJUNCTIONS,
    BEFORE_CONTENT,
    BEFORE_PREPOSITIONS,
)
from mantisreed.subtitles.language.break_place import (
    LOOSE,
    PAIR,
    PHRASE,
    PLAIN,
    UNIT,
    BreakPlace,
    Case,
    Row,
)
from mantisreed.subtitles.language.breaks import break_penalties, breaks_of
from mantisreed.subtitles.language.comma_rules import BEHIND_COMMAS
from mantisreed.subtitles.language.following_rules import FOLLOWING
from mantisreed.subtitles.language.languages import english_forms, words_of_language
from mantisreed.subtitles.language.phrase_places import places_inside_phrases
from mantisreed.subtitles.language.preceding_rules import PRECEDING
from mantisreed.subtitles.language.word_facts import facts_of, phrase_length

# The place is marked; the tie is that of this row alone.
EXAMPLES: dict[str, list[tuple[str, str, float]]] = {
    "_inside_name": [("en", "we met Ada ^ Tamm there", UNIT)],
    "_after_title": [("en", "then professor ^ Halm came", UNIT)],
    "_after_number": [
        ("en", "some 30 ^ km away", UNIT),
        ("de", "und drei ^ Vögel", PAIR + 4),
        ("en", "in three ^ or four nets", UNIT),
    ],
    "_after_number_alone": [("nl", "drie op de dijk en drie ^ bij de monding", LOOSE - 4)],
    "_after_numbered": [("en", "bus number ^ eleven stops", UNIT), ("fr", "numéro ^ onze", UNIT)],
    "_after_naming": [
        ("en", "make a folder called ^ counts with", PAIR),
        ("es", "un hombre llamado ^ Rufo", PAIR),
    ],
    "stranded_to": [("en", "the only person I spoke ^ to between two and four", PAIR)],
    "_after_opener": [
        ("en", "by the time ^ the tide had turned", PAIR),
        ("es", "cada vez que ^ alguien abre", PAIR),
    ],
    "_in_pair": [
        ("en", "it depends ^ of course", 0.0),
        ("en", "because ^ of the tide", PAIR - 6),
        ("en", "somebody switched ^ on a coil", PAIR - 6),
        ("es", "tendrán ^ que dar un rodeo", PAIR - 6),
        ("fr", "là ^ où ils vivent", PAIR - 6),
    ],
    "after_determiner": [
        ("en", "the ^ tide", UNIT),
        ("de", "ihr ^ altes Boot", UNIT),
        ("de", "die ^ jüngeren unter ihnen", UNIT),
        ("de", "die Nummer angerufen, die ^ man uns gegeben", UNIT),
    ],
    "_after_coordinating": [("en", "terns and ^ gulls", PAIR)],
    "_after_conjunction": [("en", "because ^ nobody came", PAIR)],
    "_after_of": [("en", "the end of ^ summer", UNIT)],
    "_after_verb_like": [("en", "I like ^ the way", 0.0)],
    "_after_preposition": [
        ("en", "in ^ summer", PAIR),
        ("en", "far and in ^ which direction", UNIT),
        ("en", "waiting for ^ that moment", PAIR),
        ("en", "got to ^ the top", PAIR),
        ("en", "a quarter past ^ four", PAIR),
        ("en", "stood there for ^ about six weeks", PAIR),
    ],
    "after_negation": [
        ("de", "man sie so gut wie nie ^ zu Gesicht", PLAIN),
        ("nl", "ze vertelde me nooit ^ hoe ze heette", 0.0),
    ],
    "_after_particle": [
        ("en", "turned off ^ the light", PLAIN - 2),
        ("en", "she has given up ^ counting them", LOOSE + 4),
    ],
    "_after_pronoun_object": [
        ("en", "half of you ^ have slept", 0.0),
        ("de", "müssen wir ^ noch die Netze", 0.0),
    ],
    "_after_pronoun": [
        ("en", "think it over I ^ go up there", PAIR),
        ("en", "they ^ went home", PAIR),
        ("en", "the thing I ^ like about it", PAIR),
        ("fr", "et il ^ n'y en avait plus", PAIR),
        ("de", "dass ich ^ auf dem Deich stand", PLAIN),
    ],
    "after_auxiliary_with_last_verb": [
        ("de", "der hat ^ gegessen.", PAIR),
        ("de", "wir haben ^ schon einmal gefangen", PHRASE),
    ],
    "after_auxiliary": [("en", "have ^ seen", PAIR), ("fr", "nous avions ^ posé", PAIR)],
    "_with_participle": [("en", "the reason I keep ^ coming back", PAIR)],
    "_after_degree": [("en", "very ^ cold", PAIR - 4), ("en", "it was only ^ that one", PAIR)],
    "_after_quantifier": [("en", "all ^ birds", PAIR - 4), ("en", "neither ^ net", PAIR - 4)],
    "after_adjective": [("en", "old ^ nets", PAIR + 4), ("en", "the spare ^ can from", PAIR + 4)],
    "after_attributive": [
        ("en", "of their ringing ^ lives out there", PAIR - 4),
        ("en", "to dry in a well-aired ^ shed", PAIR - 4),
    ],
    "_after_floating": [("en", "the nets had both ^ been mended", PAIR)],
    "after_amount": [
        ("it", "e il centro un po' ^ più forte", PAIR - 4),
        ("en", "the tide came a little ^ later than before", PAIR - 4),
        ("nl", "een klein beetje ^ harder dan", PAIR - 4),
    ],
    "after_graded": [("en", "an absolutely faultless ^ race up to now", PAIR - 4)],
    "after_pronominal": [("de", "sind in der dafür ^ vorgesehenen Tasche", PAIR)],
    "_more_of_it": [("es", "necesitamos unos cincuenta minutos ^ más para", LOOSE)],
    "_counted_genitive": [
        ("ru", "в радиусе ^ десяти километров", LOOSE - 8),
        ("pl", "w promieniu ^ dziesięciu kilometrów", LOOSE - 8),
    ],
    "after_genitive": [("en", "the warden's ^ hut", PAIR + 4)],
    "after_adverb": [("en", "slowly ^ walking", LOOSE)],
    "after_inflected_adjective": [
        ("ru", "не горячего ^ душа и", LOOSE),
        ("ru", "и старой насосной ^ станцией", LOOSE),
        ("ru", "эта белая ^ лодка", LOOSE),
        ("pl", "nowego ^ mostu", LOOSE),
        ("ru", "положить в предназначенную ^ для этого сумку", LOOSE - 4),
    ],
    "after_measure": [
        ("de", "eine halbe Flasche ^ trockenen Apfelwein", LOOSE + 4),
        ("nl", "een glas ^ melk", LOOSE + 4),
    ],
    "before_noun": [("de", "die klammen ^ Netze", PAIR)],
    "_second_of_two": [("de", "weder der Arzt noch ^ die Schwester", PAIR)],
    "_after_short_word": [("xx", "om ^ morgonen", PAIR)],
    "_object": [
        ("en", "saw ^ them there", PAIR),
        ("en", "every reason to want ^ it mended", PAIR),
    ],
    "_unit_behind": [("en", "ten years ^ ago", UNIT)],
    "_particle": [
        ("de", "sie fanden ^ heraus, dass er schlief", PAIR),
        ("en", "please pick it ^ up", PAIR),
    ],
    "_last_preposition": [
        ("en", "looking ^ for.", PAIR),
        ("de", "drehte sich ^ um ohne ein Wort", PAIR),
        ("de", "wir stellten den Motor ^ ab und warteten", PAIR),
        ("nl", "met de rug van een mes ^ op tikt,", LOOSE + 4),
    ],
    "_inverted_pronoun": [
        ("en", "have ^ you seen", PAIR),
        ("de", "davon ziehen ^ wir das Gewicht ab", PAIR),
        ("de", "dann stieg ^ ich in den Bus", PAIR),
        ("de", "Meinst ^ du den alten Lehrer", PAIR),
    ],
    "_pronoun_behind_pronoun": [
        ("de", "dann habe ich ^ sie vergessen", PAIR),
        ("de", "früher oder später wird dich ^ jemand fragen", PAIR),
    ],
    "_you_as_object": [
        ("en", "is going to ask ^ you why", PAIR),
        ("en", "nobody will believe ^ you.", PAIR),
        ("nl", "maar ik waarschuw ^ je dat het", PAIR),
    ],
    "_floating": [
        ("en", "we rang them ^ all.", PAIR),
        ("it", "bisogna cambiarli ^ tutti prima", PAIR),
        ("nl", "we zouden ze ^ allemaal moeten vervangen", PAIR),
        ("pl", "trzeba by je ^ wszystkie wymienić", PAIR),
    ],
    "_trailing_phrase": [
        ("it", "quello che mi preoccupa ^ di più non sono", LOOSE),
        ("it", "i venti chilometri ^ all'ora, le reti", LOOSE),
        ("de", "wir öffnen ein Netz ^ nach dem anderen und gehen", LOOSE),
    ],
    "_object_alone": [("fr", "j'en prends ^ un quand il vient", LOOSE)],
    "_possessive": [
        ("it", "ci racconti con parole ^ sue che cosa", LOOSE + 4),
        ("es", "ha venido un amigo ^ mío.", LOOSE + 4),
    ],
    "_german_of": [("de", "die eine Gruppe ^ von Studenten beringt", PLAIN)],
    "_somebody_described": [("en", "there is always ^ somebody who prays", PLAIN)],
    "_strong_subject": [
        ("it", "te lo dico ^ io che ne ho presi", LOOSE),
        ("es", "que no se me ocurriera abrirlo ^ yo bajo ningún", PAIR),
    ],
    "_after_indefinite": [("fr", "à moins que quelqu'un ^ ne vienne", PLAIN + 4)],
    "_made_to_do": [("en", "then we let them ^ go through the window", LOOSE)],
    "_pronoun_before_infinitive": [("pl", "jeśli da się go ^ odczytać", PAIR)],
    "_part_of_number": [("de", "und etwa ein Drittel ^ davon hat noch", PAIR)],
    "_negation": [("fr", "vous ne prenez ^ pas de sac", PAIR)],
    "_number_behind_noun": [
        ("en", "from platform ^ seven.", PAIR),
        ("de", "Gleis ^ sieben.", PAIR),
    ],
    "infinitive": [("fr", "vous comptez ^ faire", LOOSE), ("es", "supieron ^ decirme", LOOSE)],
    "slavic_infinitive": [
        ("ru", "туман начнёт ^ собираться", LOOSE),
        ("pl", "rybacy zaczęli ^ krzyczeć", LOOSE),
    ],
    "behind_range": [
        ("de", "auf sechs ^ bis sieben Netze", UNIT),
        ("pl", "sześć ^ do siedmiu łodzi", UNIT),
    ],
    "in_range": [
        ("en", "the path from November ^ to March", PAIR),
        ("de", "den Weg von November ^ bis März einfach", PAIR),
        ("fr", "fermé de novembre ^ à mars", PAIR),
        ("pl", "drogę od listopada ^ do marca", PAIR),
    ],
    "before_the_same": [
        ("en", "was moved stone ^ by stone to", PAIR),
        ("nl", "en stuk ^ voor stuk klimmen", PAIR),
    ],
    "after_the_first": [("de", "Stein für ^ Stein versetzt", UNIT)],
    "behind_aspect": [
        ("it", "e di tornare ^ a parlare della", PLAIN + 4),
        ("fr", "envie d'aller ^ s'y promener", PLAIN + 4),
    ],
    "_usted": [("es", "no se marchó ^ usted nunca", PAIR)],
    "infinitive_with_sign": [("de", "den Topf ^ zu setzen", LOOSE)],
    "_trailing": [
        ("en", "somebody used to sit ^ there half the night", LOOSE),
        ("en", "works for us full time ^ now and would stay", LOOSE),
        ("en", "when I got ^ there nobody had", LOOSE),
        ("de", "wenn Sie keine Fragen ^ mehr haben", LOOSE),
    ],
    "_genitive": [
        ("de", "ohne die Hilfe ^ der Feuerwehr kamen wir", PLAIN + 4),
        ("de", "am Rand ^ des großen Waldes", PLAIN + 4),
    ],
    "last_verb": [
        ("de", "der Mannschaft, die im vorigen Jahr Letzte ^ wurde und sich", LOOSE + 4),
        ("nl", "iemand die bereid ^ is om te blijven", LOOSE + 4),
        ("de", "wenn morgens die Sonne ^ aufgeht und Gänse rufen", LOOSE + 4),
        ("de", "kann sich bei mir ^ melden oder kommen", LOOSE + 4),
        ("de", "dass der Nebel ^ steigt,", LOOSE + 4),
        ("de", "nasse Füße ^ bekommen und gelacht", LOOSE + 4),
        ("nl", "nog geen tijd ^ gehad om te eten", LOOSE + 4),
        ("nl", "dat onder de weegschaal ^ ligt en kijk", LOOSE + 4),
        ("de", "wegen der Kälte behandelt ^ werden musste.", LOOSE + 4),
        ("nl", "die naar haar toe gekeerd ^ is een beetje", LOOSE + 4),
        ("nl", "aan wie we het meeste te danken ^ hebben van", LOOSE + 4),
    ],
}


def place_of(language: str, marked: str) -> BreakPlace:
    before, _, behind = marked.partition(" ^ ")
    texts = [*before.split(), *behind.split()]
    at = len(before.split())
    words = [facts_of(text, language) for text in texts]
    length = 0
    for word in words[:at]:
        length = phrase_length(word, length)
    known = words_of_language(language)
    inside = places_inside_phrases(words, language)
    return BreakPlace(texts, words, at, known, language, inside, at == 1, length)


def deciding(rows: tuple[Row, ...], place: BreakPlace, word: str) -> tuple[str, float]:
    """The row that decides, and what it says."""
    for name, rule, tongues in rows:
        listed: Container[str] | None = None if name is None else getattr(place.known, name)
        is_asked = tongues is None or place.tongue in tongues
        if is_asked and (listed is None or word in listed):
            tie = rule(place)
            if tie is not None:
                return rule.__name__, tie
    return "", 0.0


@pytest.mark.parametrize("row", sorted({row.rule.__name__ for row in (*FOLLOWING, *PRECEDING)}))
def test_each_row_decides_its_examples(row: str) -> None:
    rows = FOLLOWING if any(one.rule.__name__ == row for one in FOLLOWING) else PRECEDING
    for language, marked, tie in EXAMPLES[row]:
        place = place_of(language, marked)
        word = place.before.tail if rows is FOLLOWING else place.word.head
        decided = deciding(rows, place, word)
        if tie == 0.0 and row == "_in_pair":
            assert decided[0] != row, marked
        else:
            assert decided == (row, tie), marked


# In the order of the cases: the place is marked, and that case is the first that it is.
CASES: list[tuple[tuple[Case, ...], list[tuple[str, str]]]] = [
    (
        BEHIND_COMMAS,
        [
            ("en", "Well, ^ we had gone"),
            ("pl", "jest ciemno, i pierwsze, ^ co robimy"),
            ("en", "the second net, ^ though, since it"),
            ("es", "y que, ^ cuando llueve, pesa poco"),
            ("ru", "что он видел, — это, ^ в сущности, выпь"),
            ("en", "late for anything except, they say, ^ his own wedding"),
            ("es", "y que, sin embargo, ^ pesa poco"),
            ("en", "we met the man, ^ who sat on it,"),
            ("de", "den Vogel, den man zu lange hält, ^ vergisst es"),
            ("en", "the tide turned, ^ the nets were down"),
        ],
    ),
    (
        AFTER_AUXILIARIES,
        [
            ("en", "the first thing we do ^ is listen"),
            ("fr", "on verra si c'était ^ ce que l'on croyait"),
            ("en", "the sound they had ^ both been hearing"),
            ("fr", "la nuit était ^ si épaisse que"),
            ("en", "the tide was ^ where we had left it"),
            ("en", "the nets are ^ in the shed"),
            ("es", "el hombre a quien debemos ^ la mayor parte"),
            ("en", "if there is ^ anything at all you want"),
        ],
    ),
    (
        BEFORE_CONJUNCTIONS,
        [
            ("en", "it is kept in the bag ^ provided and"),
            ("fr", "ils n'ont eu ^ que quelques jours"),
            ("es", "por leve ^ que sea,"),
            ("ru", "большая часть ^ которого касалась"),
            ("fr", "une nuit ^ si froide que personne"),
            ("en", "nobody could tell me ^ why, and"),
            ("en", "who was there ^ that night"),
            ("nl", "dat was ^ die jongen"),
            ("en", "there were fewer ^ than two"),
            ("en", "whoever ran ^ after us would"),
            ("en", "the bank is higher ^ than it looks"),
            ("en", "you need a map ^ as well."),
            ("en", "never have admitted ^ as much."),
        ],
    ),
    (
        BEFORE_PREPOSITIONS,
        [
            ("en", "the birds have grown too big ^ for the nest"),
            ("en", "nobody waited ^ for the boat"),
            ("en", "he comes with a lamp ^ on his head"),
        ],
    ),
    (
        BEFORE_CONTENT,
        [
            ("en", "we keep it in a shed ^ out of the wind"),
            ("de", "dann dreht Wind ^ stark"),
            ("fr", "chacune d'entre elles ^ enjambe la barrière"),
            ("en", "we put painted ^ rings on it"),
            ("en", "the path that goes round the pool ^ turned left"),
            ("en", "the thing that a careful warden ^ asked is"),
            ("en", "all the wardens ^ waited there"),
            ("es", "los alicates de mango ^ rojo y"),
            ("fr", "la digue ^ mouillée et"),
            ("en", "the mud ^ shed is"),
            ("en", "we threw ^ poles on it"),
        ],
    ),
]


@pytest.mark.parametrize("number", range(len(CASES)))
def test_each_case_decides_its_example(number: int) -> None:
    cases, examples = CASES[number]
    for case, (language, marked) in zip(cases, examples, strict=True):
        place = place_of(language, marked)
        first = next((one for one in cases if one.test(place)), None)
        assert first is case, marked


@pytest.mark.parametrize(
    ("language", "better", "worse"),
    [
        ("en", "ask her ^ about almost anything", "ask her about ^ almost anything"),
        ("en", "the old master ^ has once again called", "master has ^ once again called"),
        ("en", "over the mud in May ^ has lost", "over the mud in ^ May has"),
        ("it", "l'unica via d'uscita ^ quando la marea", "l'unica via ^ d'uscita quando"),
        ("fr", "personne ne savait ^ ce qu'il y avait", "personne ^ ne savait ce"),
        ("fr", "de la brume dans l'air ^ et des bancs de glace", "dans l'air et ^ des bancs"),
        ("en", "another ten minutes or so ^ to mend it", "another ten minutes ^ or so to"),
        ("en", "tie it to the pole ^ by at least one rope", "tie it to the pole by ^ at least one"),
        ("en", "the water ^ comes up to about here", "the water comes up to ^ about here"),
        ("en", "it is always ^ a bit later than", "it is always a bit ^ later than"),
        ("en", "if anything at all ^ you own", "if anything ^ at all you own"),
        ("en", "at the hut ^ wondering whether to go", "at the hut wondering whether ^ to go"),
        ("en", "a funny idea ^ of what's worth keeping", "idea of what's ^ worth keeping"),
        ("en", "we ringed ^ a little over a quarter of it", "a little over a quarter ^ of it"),
        ("en", "attempt ^ anything of the kind", "attempt anything ^ of the kind"),
        ("en", "the birds have grown ^ too big for it all", "have grown too big ^ for it all"),
        ("en", "taken to wandering about ^ in the mud", "taken to wandering ^ about in the mud"),
        ("it", "che un argine rotto ^ e una diceria", "che un argine ^ rotto e una diceria"),
        ("it", "abbiamo visto ^ un quarto di milione", "abbiamo visto un quarto ^ di milione"),
        ("es", "me dicen ^ lo que sí teníamos", "me dicen lo que sí ^ teníamos"),
        ("es", "el asa dentro ^ para que nadie", "el asa ^ dentro para que nadie"),
        ("de", "mit dem Henkel drin ^ neben das Bett", "mit dem Henkel ^ drin neben das Bett"),
        ("de", "vorbei ^ in Richtung Mülleimer", "vorbei in Richtung ^ Mülleimer"),
        ("de", "gezählt ^ haben wir mehr als eine Million", "wir mehr ^ als eine Million"),
        ("en", "you argue ^ about who left it", "you argue about ^ who left it"),
        ("en", "I spoke to ^ between two and four", "I spoke ^ to between two and four"),
        ("en", "if you followed along so far ^ you have", "if you followed along ^ so far you"),
        ("de", "zwischen neun und sechs ^ noch einmal", "neun und sechs noch ^ einmal"),
        ("es", "a quien debemos ^ la mayor parte de ello", "quien debemos la ^ mayor parte de"),
        ("pt", "ela trouxe ^ um quilo e meio", "ela trouxe um quilo ^ e meio"),
        ("fr", "qu'il avait taillée lui-même ^ et sur", "avait taillée ^ lui-même et sur"),
        ("it", "che mi preoccupa di più ^ non sono le reti", "mi preoccupa ^ di più non sono"),
        ("es", "los pájaros ^ empiezan a ponerse nerviosos", "empiezan a ^ ponerse nerviosos"),
        ("es", "mucho antes de que ustedes o yo ^ lo notemos", "de que ustedes ^ o yo lo"),
        ("fr", "il faut ^ une cinquantaine de minutes", "une cinquantaine ^ de minutes"),
        ("de", "bei einem auch noch so leichten Sturz ^ reißt es", "bei einem ^ auch noch so"),
        ("pt", "verificada ^ nos últimos seis meses", "nos últimos ^ seis meses"),
        ("nl", "om vier uur 's middags ^ brood kopen", "om vier uur 's ^ middags brood"),
        ("en", "it is ^ the third such storm", "it is the third ^ such storm"),
        ("en", "know all this ^ without ever asking", "know all ^ this without ever asking"),
        ("de", "das ^ seit Wochen niemand", "das seit ^ Wochen niemand"),
        ("de", "habt ihr ^ heute angefangen", "habt ^ ihr heute angefangen"),
        ("fr", "au bord ^ de la rivière", "les pommes ^ de terre"),
        ("fr", "à la place des pommes de terre ^ et versez", "terre et ^ versez un litre"),
        ("es", "Al menos ^ podrían habernos preguntado", "podrían habernos ^ preguntado antes"),
        ("en", "the tide turned ^ and we left", "the tide turned and ^ we left"),
        ("en", "then add salt ^ and pour it in", "then add salt and pour ^ it in slowly"),
        ("en", "been trying ^ to get hold of it", "trying to get ^ hold of it"),
        ("es", "me preguntan ^ qué fue eso", "me preguntan qué ^ fue eso"),
        ("de", "mit der einen Hand ^ nach dem Griff", "mit der ^ einen Hand"),
        ("en", "a map ^ as well as a compass", "you need a map ^ as well."),
        ("en", "when the sun comes up ^ and geese call", "the sun comes ^ up and geese call"),
        ("en", "for us full time now ^ and would stay", "for us full time ^ now and would stay"),
        ("en", "the shop ^ has shut its doors", "she would never have admitted ^ as much."),
        ("de", "man sie so gut wie nie ^ zu Gesicht bekommt", "man sie ^ so gut wie nie"),
        ("fr", "la rive était si épaisse ^ que personne", "la rive était ^ si épaisse que"),
        ("fr", "personne vérifie toujours ^ ce que", "personne vérifie ^ toujours ce que"),
        ("fr", "elle notait chaque matin ^ quels oiseaux", "elle notait ^ chaque matin quels"),
        ("fr", "une caisse sombre ^ afin qu'ils dorment", "caisse sombre afin ^ qu'ils dorment"),
        ("de", "wenn sie aufgeht ^ und Gänse laut rufen", "wenn Netze reißen und ^ Gänse rufen"),
        ("en", "the shop there ^ shut its doors", "the shop ^ there shut its doors"),
        ("en", "a dog running loose ^ can drive them", "a dog running ^ loose can drive them"),
        ("en", "we bring ^ everything we might need", "we bring everything ^ we might need"),
        ("en", "explain it ^ to the farmer", "explain ^ it to the farmer"),
        ("en", "every single morning out here ^ is", "morning out ^ here is"),
        ("en", "in the storm ^ the winter before last.", "the storm the winter ^ before last."),
        ("en", "we know ^ how strong they are.", "we know how strong ^ they are."),
        ("fr", "certains y arrivent ^ à pied.", "certains y arrivent ^ à faire."),
        ("es", "el ave se acostumbra a ella ^ en unos", "se acostumbra ^ a ella en unos"),
        ("es", "aquella noche vaya a olvidar ^ jamás", "aquella noche vaya ^ a olvidar"),
        ("es", "los alicates de mango rojo ^ y un cubo", "los alicates de mango ^ rojo y"),
        ("es", "el número ^ antes de soltar al pájaro", "el número antes ^ de soltar al pájaro"),
        ("de", "wiegt ^ innerhalb von Minuten", "wiegt innerhalb ^ von Minuten"),
        ("en", "in spite of everything ^ they say about them,", "they say ^ about them,"),
        ("en", "who was there that night ^ will forget", "who was there ^ that night will"),
        ("en", "the land ^ was drained and ploughed,", "the land was drained ^ and ploughed,"),
        ("en", "that a bird ^ weighing less than", "that a bird weighing ^ less than"),
        ("en", "off the mud ^ and back into the channel", "off the mud and back ^ into it."),
        ("de", "selbst wenn wir ^ doppelt so viele", "Selbst wenn wir doppelt viele ^ hätten,"),
        ("es", "por desgracia ^ eso ha ocurrido ya", "por desgracia eso ^ ha ocurrido ya"),
        ("it", "lì, tre sull'argine ^ e tre vicino", "tre sull'argine e tre ^ vicino alla foce"),
        ("it", "cambiarli tutti ^ prima dell'inverno,", "cambiarli tutti prima ^ dell'inverno,"),
        ("nl", "dat een vogel ^ die je te lang", "dat een vogel die ^ je te lang"),
        (
            "it",
            "e la prima cosa che facciamo ^ è guardare",
            "la prima cosa ^ che facciamo è guardare",
        ),
        ("en", "and the first thing we do ^ is listen", "and the first thing ^ we do is listen"),
        ("nl", "het eerste wat we doen ^ is luisteren", "het eerste ^ wat we doen is luisteren"),
        ("it", "in dieci minuti più aironi ^ di quanti", "in dieci minuti più ^ aironi di quanti"),
        ("es", "mató en diez minutos más garzas ^ de las que", "mató ^ en diez minutos más"),
        ("es", "llegan con el perro suelto ^ y pretenden verlo", "el perro ^ suelto y pretenden"),
        ("es", "siempre es por ahí ^ por donde se", "siempre es por ahí por ^ donde se"),
        ("fr", "celles qui choisissent ce métier ^ le savent", "qui choisissent ^ ce métier le"),
        ("de", "Gruppe von Studenten ^ in Afrika beringt", "eine Gruppe ^ von Studenten in"),
        ("de", "mit Lampe auf dem Kopf ^ und Beuteln am Gürtel", "mit Lampe auf ^ dem Kopf und"),
        ("nl", "die met een hond aankomen ^ en alles willen zien", "een hond ^ aankomen en alles"),
        ("ru", "делает обход ^ с фонарём на голове", "делает обход с фонарём ^ на голове"),
        ("pl", "jest ciemno, ^ i pierwsze, co", "jest ciemno, i pierwsze, ^ co robimy"),
        ("fr", "à moins que quelqu'un ^ ne les ait", "à moins que ^ quelqu'un ne les ait"),
        ("it", "non le abbia di nuovo ^ spostate,", "non le abbia di ^ nuovo spostate,"),
        ("es", "en la pizarra ^ para que todos sepan", "lo apuntaré ^ en la pizarra para"),
        ("fr", "c'est la vitesse ^ à laquelle le pré", "c'est la vitesse à laquelle ^ le pré"),
        (
            "en",
            "even if we've driven ^ all that way for",
            "even if we've driven all ^ that way for",
        ),
        ("nl", "dat was die jongen ^ die ons helpt", "dat was ^ die jongen die ons helpt"),
        ("pl", "zaobrączkowałem ich ^ ponad tysiąc.", "zaobrączkowałem ^ ich ponad tysiąc."),
        ("pl", "ptak, którego trzyma się, ^ zapomina", "ptak, którego trzyma ^ się, zapomina"),
        ("ru", "чистые ли у неё глаза ^ и часто ли", "чистые ли у неё ^ глаза и часто"),
        ("nl", "Ja, we zijn moe, ^ maar niet", "Ja, ^ we zijn moe, maar"),
        ("en", "Let me show you ^ how that works.", "Let me show ^ you how that works."),
        ("en", "of the chicks we ringed ^ fewer than two", "we ringed fewer ^ than two came"),
        ("en", "fewer than two ^ have come back", "fewer than ^ two have come back"),
        ("en", "he looked very much ^ as though he", "he looked ^ very much as though he"),
        ("en", "the one they're looking for ^ was here", "the one they're looking ^ for was here"),
        ("en", "the second net, though, ^ since it", "the second net, ^ though, since it"),
        ("en", "the week ^ in which each egg hatched", "the week in ^ which each egg hatched"),
        ("en", "whoever ran after us ^ would have", "whoever ran ^ after us would have"),
        ("en", "we put painted rings ^ on the poles", "we put painted ^ rings on the poles"),
        ("en", "the path that goes round the pool ^ is wet", "the path that ^ goes round"),
        ("en", "the path that goes round the pool ^ is wet", "the path round the pool ^ is wet"),
        ("en", "a fence that nobody ^ had mended stood", "a thing that nobody ^ mends is"),
        ("en", "all asleep on the raft. ^ and the nets", "on approx. ^ two rafts"),
        ("en", "lift the thread ^ off the needle", "lift the thread off ^ the needle"),
        ("en", "more rain ^ than it kept out", "it rained more often ^ than it did"),
        ("en", "When the tide came in, ^ terns rose", "The tide came in, ^ terns rose"),
        ("en", "Whenever it rains, ^ gulls come", "the man with the dog, ^ who waits, came"),
        ("de", "Der Wirt, der hier sitzt, ^ kennt", "Guten Tag, der Wirt, ^ der hier sitzt,"),
        ("de", "lange bedauern ^ und die Gänse gewarnt haben,", "Rallen ^ und die Gänse"),
        ("de", "das Seil, an dem es hängt, ^ riss", "und das Seil, ^ an dem es hängt, riss"),
        ("de", "kam nie an, ^ obwohl er, wie", "kam nie an, obwohl er, ^ wie"),
        ("de", "als sie zehn Jahre alt war ^ und rief", "als sie zehn Jahre alt ^ war und rief"),
        ("de", "die Wiese links davon ^ nannten wir", "die Wiese links ^ davon nannten wir"),
        ("de", "es war dunkel ^ als er kam", "weil er mehr wiegt ^ als er soll"),
        ("fr", "une nuit si froide ^ que personne", "une nuit ^ si froide que personne"),
        ("fr", "elle se gardera bien ^ de venir ce soir", "gardera ^ bien de venir ce soir"),
        ("fr", "sans ni fusil ^ ni chien", "avec fusil ^ et chien"),
        ("es", "y que, sin embargo, ^ pesa poco", "y que, ^ sin embargo, pesa poco"),
        ("es", "Lo que sé, sin embargo, ^ es", "Lo que sé, ^ sin embargo, es"),
        ("es", "en el año ^ mil ochocientos", "en el año mil ^ ochocientos veintidós"),
        ("es", "dar las gracias ^ a quienes vienen", "dar las ^ gracias a quienes vienen"),
        ("es", "antes de abrir ^ la puerta", "antes ^ de abrir la puerta"),
        ("it", "e quello che ha tirato su ^ era pesce", "quello che ha tirato ^ su era pesce"),
        ("it", "non aveva né cane ^ né gatto nero", "né cane né gatto ^ nero e"),
        ("nl", "ze zei me nooit ^ waar de boot lag", "ze zei me ^ nooit waar de boot lag"),
        ("nl", "er lag een boot in ^ die door iemand", "er lag een boot ^ in die door iemand"),
        ("nl", "niet op de dijk lopen ^ zonder laarzen", "niet op de dijk ^ lopen zonder laarzen"),
        ("nl", "we bedanken de buren ^ die vanavond komen", "de buren die ^ vanavond komen"),
        ("pl", "znał go każdy, choć, o ile wiem, ^ nie był", "każdy, choć, ^ o ile wiem, nie był"),
        ("pl", "w dwa tysiące trzecim ^ złapaliśmy", "w dwa tysiące ^ trzecim złapaliśmy"),
        ("pl", "na piątą łódkę ^ i kładkę", "na piątą ^ łódkę i kładkę"),
        ("pt", "as crianças que brincam aqui ^ não ouvem", "as crianças de hoje ^ não ouvem"),
        ("ru", "мы кормили их первого числа ^ утром", "мы кормили их первого ^ числа утром"),
        ("pt", "O que sei, no entanto, ^ é", "O que sei, ^ no entanto, é"),
        ("ru", "весной девятого года ^ мы нашли", "весной девятого ^ года мы нашли"),
        ("ru", "То, что он видел, — ^ это, конечно, выпь", "что он видел, ^ — это, конечно"),
        ("ru", "То, что он видел, — ^ это, конечно, выпь", "видел, — это, ^ конечно, выпь"),
    ],
)
def test_one_place_is_better_than_another(language: str, better: str, worse: str) -> None:
    penalties = []
    for marked in (better, worse):
        before = marked.partition(" ^ ")[0].split()
        texts = marked.replace(" ^ ", " ").split()
        penalties.append(break_penalties(texts, language)[len(before)])
    assert penalties[0] < penalties[1], penalties


def test_a_clause_that_has_just_begun_is_not_torn_from_its_conjunction() -> None:
    text = "Danach gibst du die Kartoffeln dazu und gießt alles mit Brühe auf."
    penalties = break_penalties(text.split(), "de")
    before_and, behind_verb = penalties[6], penalties[8]
    assert behind_verb - before_and >= 10.0


@pytest.mark.parametrize(
    ("language", "torn", "whole"),
    [
        # A clause has just begun, and one is over.
        ("en", "it came so late that the ice ^ was gone", "so late that the ice was gone ^ by May"),
        # The second of two that something is between.
        (
            "en",
            "lost between the edge of the island ^ and the mainland",
            "lost between the edge and the island ^ and found again",
        ),
        # A word or two are left of a clause, and many.
        (
            "en",
            "a start by the youngsters ^ from the lower marsh, who",
            "a start by the youngsters ^ from the lower marsh who finished last",
        ),
        # The last two of a list of single words, and another clause.
        ("en", "we counted, ^ weighed and ringed them", "we counted them, ^ and he wrote"),
        # But a noun stands before the clause that describes it, and a whole clause does.
        ("fr", "il est parti, et le garçon, ^ qui dormait,", "le garçon est parti, ^ qui dormait,"),
        ("de", "sie ging, und der Junge, ^ der schlief,", "sie ging zum Jungen, ^ der schlief,"),
    ],
)
def test_a_cue_ends_with_no_clause_that_has_just_begun(
    language: str, torn: str, whole: str
) -> None:
    def more(marked: str) -> float:
        before, _, behind = marked.partition(" ^ ")
        breaks = breaks_of([*before.split(), *behind.split()], language)
        return breaks.more_of_cues[len(before.split())]

    assert more(torn) > more(whole) == 0.0


def test_english_verbs_have_all_their_forms() -> None:
    assert {"turns", "turned", "turning"} <= english_forms("turn")
    assert {"takes", "took", "taken", "taking"} <= english_forms("take")
    assert {"carries", "carried", "carrying"} <= english_forms("carry")
    assert {"shutting", "shuts"} <= english_forms("shut")
    assert {"switches", "switched"} <= english_forms("switch")


def test_text_in_capitals_breaks_as_other_text_does() -> None:
    text = "We counted all of the birds. Then the warden came back to the hut."
    whole = break_penalties(text.upper().split(), "en")
    assert whole == break_penalties(text.split(), "en")
    # Two words are a name.
    assert break_penalties(["she", "left", "SALT", "MARSH", "and"], "en")[3] == UNIT
