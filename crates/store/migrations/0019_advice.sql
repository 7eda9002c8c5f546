-- One that has been replaced is not asked about any more, nor gone past.
DROP INDEX certificates_advice;
CREATE INDEX certificates_advice ON certificates (advice_at)
    WHERE advice_at IS NOT NULL AND revoked_at IS NULL AND replaced_at IS NULL;
