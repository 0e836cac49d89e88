"""The ledger: every trial ever made, in SQLite or PostgreSQL through SQLAlchemy.

`tables` declares what is kept, `migrations` brings older ledgers up to it, `store` opens, writes and asks.
"""

from sastrugi.campaign.ledger.store import Ledger, LedgerRow, open_ledger

__all__ = ["Ledger", "LedgerRow", "open_ledger"]
