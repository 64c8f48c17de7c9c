SET NAMES utf8mb4;
CREATE TABLE app_log (noted VARCHAR(100));
/*!50003 DROP FUNCTION IF EXISTS app_double */;
DELIMITER $$
CREATE FUNCTION app_double(n INT) RETURNS INT DETERMINISTIC
BEGIN
  -- a comment; inside
  DECLARE twice INT;
  SET twice = n * 2;
  RETURN twice;
END$$
DELIMITER ;
INSERT INTO app_log VALUES ('stored; app_ stays');
