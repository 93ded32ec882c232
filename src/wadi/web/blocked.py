"""Whether a page that came is none: a challenge, a log-in, "too many requests", an empty shell. A pure verdict.

What counts first is the difference: what the plan expects is missing, or a page gives nothing where others gave rows and
is much smaller than they are. Only then markup and words say of what kind it is, so that an article about such pages passes.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

_FEW_WORDS = 150
_SMALL_SHARE = 0.5
_CHALLENGE = re.compile(  # in English and in eleven other languages
    r"\b(?:are you (?:a )?(?:human|robot)|not a robot|verify (?:that )?you|security check"
    r"|checking your browser|unusual traffic"
    r"|mensch sind|kein roboter|sicherheitsprüfung|vous êtes humain|pas un robot|vérification de sécurité"
    r"|es humano|no (?:eres|soy) un robot"
    r"|non (?:sei|sono) un robot|verifica di sicurezza"
    r"|não (?:é|sou) um robô|verificação de segurança|geen robot|beveiligingscontrole"
    r"|nie jesteś robotem|sprawdzanie bezpieczeństwa|inte (?:är )?en robot|säkerhetskontroll|не робот|проверка безопасности)\b"
    r"|ロボットではありません|セキュリティ(?:チェック|確認)|人机验证|不是机器人",
    re.IGNORECASE,
)
_TOO_MANY = re.compile(
    r"\b(?:too many requests|rate limit(?:ed)?|slow down|access denied|temporarily blocked|zu viele anfragen|zugriff verweigert"
    r"|trop de requêtes|accès refusé|demasiadas (?:solicitudes|peticiones)|acceso denegado|troppe richieste|accesso negato"
    r"|(?:muitas|demasiadas) (?:solicitações|requisições)|acesso negado|te veel (?:verzoeken|aanvragen)|toegang geweigerd"
    r"|zbyt wiele (?:żądań|zapytań)|odmowa dostępu|för många förfrågningar|åtkomst nekad"
    r"|слишком много запросов|доступ запрещ[её]н)\b"
    r"|リクエストが多すぎ|アクセスが(?:拒否|制限)|请求过(?:多|于频繁)|拒绝访问",
    re.IGNORECASE,
)


@dataclass(frozen=True, slots=True)
class Signals:
    """What a page looks like: its size in bytes, number of words, text (some of it), and what its markup shows."""

    size_bytes: int
    words: int
    text: str
    has_challenge: bool = False
    has_password: bool = False
    has_refresh: bool = False
    has_script: bool = False


def block_of(signals: Signals, *, misses_expected: bool, usual_bytes: float | None) -> str | None:
    """What kind of block a page is; None when it is none.

    `misses_expected` tells that what the plan expects is not there; without it the page gave nothing although the plan
    expects nothing special. `usual_bytes` is the size of good pages, None while there are none.
    """
    if not misses_expected and not _is_odd(signals, usual_bytes):
        return None
    is_short = signals.words < _FEW_WORDS
    if signals.has_challenge and (is_short or misses_expected):
        return "a challenge page"
    if is_short and _CHALLENGE.search(signals.text):
        return "a challenge page"
    if is_short and _TOO_MANY.search(signals.text):
        return 'a "too many requests" page'
    if signals.has_password:
        return "a log-in page"
    if is_short and signals.has_refresh:
        return "a page that says to wait"
    if signals.words < 15 and signals.has_script:
        return "an empty shell"
    return None


def _is_odd(signals: Signals, usual_bytes: float | None) -> bool:
    """Whether a page is much smaller than good ones; while there are none, whether it is short."""
    if usual_bytes is None:
        return signals.words < _FEW_WORDS
    return signals.size_bytes < _SMALL_SHARE * usual_bytes
