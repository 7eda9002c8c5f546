-- Who reads these asks for thousands of rows one by one, and would search the
-- list of pending entries for each of them.
ALTER INDEX certificates_domains SET (fastupdate = off);
ALTER INDEX orders_domains SET (fastupdate = off);
SELECT gin_clean_pending_list('certificates_domains'), gin_clean_pending_list('orders_domains');
