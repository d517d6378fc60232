"""The few words that we add to what the shop writes, in the languages that we have them in."""

from collections.abc import Mapping

WORDS: dict[str, dict[str, str]] = {
    "en": {
        "unsubscribe": "Unsubscribe",
        "preferences": "Preferences",
        "browser": "View in browser",
        "why": "You get this because you agreed to email from {{ shop_name }}.",
        "stop": "Reply STOP to end",
        "until": "until",
        "code": "Your code",
    },
    "es": {
        "unsubscribe": "Darse de baja",
        "preferences": "Preferencias",
        "browser": "Ver en el navegador",
        "why": "Recibe este correo porque aceptó recibir correos de {{ shop_name }}.",
        "stop": "Responda ALTO para terminar",
        "until": "hasta el",
        "code": "Su código",
    },
    "fr": {
        "unsubscribe": "Se désabonner",
        "preferences": "Préférences",
        "browser": "Voir dans le navigateur",
        "why": "Vous recevez ce message car vous avez accepté les courriels de {{ shop_name }}.",
        "stop": "Répondez ARRET pour arrêter",
        "until": "jusqu’au",
        "code": "Votre code",
    },
    "de": {
        "unsubscribe": "Abmelden",
        "preferences": "Einstellungen",
        "browser": "Im Browser ansehen",
        "why": "Sie erhalten dies, weil Sie E-Mails von {{ shop_name }} zugestimmt haben.",
        "stop": "STOP antworten, um abzubestellen",
        "until": "bis",
        "code": "Ihr Code",
    },
    "pt": {
        "unsubscribe": "Cancelar inscrição",
        "preferences": "Preferências",
        "browser": "Ver no navegador",
        "why": "Recebe isto porque aceitou emails de {{ shop_name }}.",
        "stop": "Responda PARAR para sair",
        "until": "até",
        "code": "O seu código",
    },
}


def words_in(language: str) -> Mapping[str, str]:
    """Our words in a language, or in English where we have none."""
    return WORDS.get(language.replace("_", "-").lower().partition("-")[0], WORDS["en"])
